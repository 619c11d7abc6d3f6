"""What takes one command: blocking and unblocking a device over several networks; the way back when locked out."""
