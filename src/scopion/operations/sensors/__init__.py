"""Several places, one roster: what sensors elsewhere tell is folded, and how they are set up."""
