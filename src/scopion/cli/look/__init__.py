"""Commands that look at the network now: here, scan, await, spare, vendor."""
