"""Codecs without I/O: bytes to frozen values and back."""
