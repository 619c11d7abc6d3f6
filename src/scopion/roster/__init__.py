"""The memory: schema, store, folding observations into stays and events, queries, entries on wireless lists."""
