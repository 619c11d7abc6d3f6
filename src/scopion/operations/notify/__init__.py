"""Telling people: an alert is worded from the roster, listed, tested, tried again or muted."""
