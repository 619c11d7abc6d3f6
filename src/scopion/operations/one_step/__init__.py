"""What takes one command: a device is blocked or unblocked, from its name to a change over several networks."""
