"""Commands about what the roster remembers: devices, labels, events, changes, files in and out."""
