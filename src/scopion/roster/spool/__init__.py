"""What a sensor has to say, in a file of its own until the roster's side has folded it."""
