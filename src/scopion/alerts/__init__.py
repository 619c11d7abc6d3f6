"""Telling somebody: rules, the plan of what goes when, wording, delivery, channels."""
