"""Who is on the air, and who was turned away: read from access points, and from what was heard of them."""
