"""What the watch takes in: observations are folded, floods are bounded, and alerts are queued with their events."""
