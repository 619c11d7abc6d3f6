"""Telling people about events: rules, the plan of when each alert is sent, wording, delivery, channels."""
