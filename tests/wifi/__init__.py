"""Wireless lists: entries, hours, pushes, the audit; on the made-up access point."""
