"""Value types: addresses, targets, observations, events, errors. They import nothing of ours and read no clock."""
