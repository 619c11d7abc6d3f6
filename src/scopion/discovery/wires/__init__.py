"""Cables: at which port of which switch an adapter hangs, by what the switches tell. Pure: no socket, no clock."""
