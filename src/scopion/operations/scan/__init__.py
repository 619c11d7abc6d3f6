"""Scans by hand: where this machine is, what will be asked, what answered, and what the roster makes of it."""
