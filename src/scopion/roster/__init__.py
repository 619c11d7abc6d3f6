"""The memory: one SQLite file, its schema, folding observations into stays and events, and queries."""
