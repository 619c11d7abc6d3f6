"""Looking back: what a report of a period holds, and how the weekly one is sent."""
