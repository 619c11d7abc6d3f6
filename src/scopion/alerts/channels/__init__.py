"""The ways an alert can go. Each knows its protocol only, and explains in plain words why it failed."""
