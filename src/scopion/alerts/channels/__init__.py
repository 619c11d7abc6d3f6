"""The ways to send an alert. Each knows only its protocol, and explains in plain words why it failed."""
