"""Cables and what passes through them: switches of real bridges, and what is worked out from their tables."""
