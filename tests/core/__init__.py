"""The core's own tests: codecs, addresses, sweeps, names, vendors; most of them by properties."""
