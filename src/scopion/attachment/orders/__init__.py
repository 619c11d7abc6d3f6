"""Orders to a sensor: what the roster's side asks it to do on access points in its place, and what it answers."""
