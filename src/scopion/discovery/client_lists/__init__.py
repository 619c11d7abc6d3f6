"""Reads client lists of routers' pages, whatever their layout: markup and scripts, lines, records, fields, words."""
