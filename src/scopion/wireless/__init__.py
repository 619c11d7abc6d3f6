"""Wireless allow and deny lists: which addresses an entry covers, what is refused, how a list gets to an enforcer."""
