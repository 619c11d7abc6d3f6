"""What the roster knows of wireless networks: lists, hours, pushes, associations, verifications."""
