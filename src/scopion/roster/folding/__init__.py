"""Folding: observations become devices, stays and events. The only writer of stays and events."""
