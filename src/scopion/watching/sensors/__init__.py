"""Sensors: the one that looks after another place and reports, and the part of the watch that hears them."""
