"""Wireless lists: entries, modes and hours, and the way of a list to the enforcers: preview, push, verify, revert."""
