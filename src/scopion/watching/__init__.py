"""The long-running service: schedules operations, listens, delivers."""
