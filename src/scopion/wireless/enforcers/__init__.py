"""What holds and enforces a list: one file for each kind, all behind the protocol in ``base``."""
