"""Value types: addresses, targets, observations, events, errors. Imports nothing of ours, touches no clock."""
