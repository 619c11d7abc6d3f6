"""Commands for being told: watch, alerts, service."""
