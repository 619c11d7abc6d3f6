"""Routers that have nothing but a web page: which list each holds, what was typed there last, and its sheet."""
