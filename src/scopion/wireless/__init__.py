"""Wireless allow and deny lists: whom an entry covers, what is refused, and the steps for a router's web page."""
