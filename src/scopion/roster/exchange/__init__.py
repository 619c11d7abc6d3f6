"""Forms in which devices leave the roster and come back: sheets, documents, lists for other programs."""
