"""The makers of adapters: the IEEE's registry of assigned prefixes, its packaged snapshot and its refresh."""
