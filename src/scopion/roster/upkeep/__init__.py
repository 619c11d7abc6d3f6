"""Keeping the file sound: checks of every row, clocks that were wrong, removal of what is old."""
