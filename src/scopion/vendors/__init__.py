"""Who made an adapter: the IEEE's registry of assigned prefixes, its packaged snapshot and its refresh."""
