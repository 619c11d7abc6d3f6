"""Enforcers hold and enforce a list: one file for each type, all behind the protocol in ``enforcer``."""
