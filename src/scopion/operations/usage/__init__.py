"""Who uses the line: now, today, this week, and what is told about it."""
