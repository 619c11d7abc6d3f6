"""What leaves the roster and comes back: sheets, documents, lists for other programs."""
