"""The tests. ``make test`` runs them all; the lab needs Linux and root, see tests/lab/__init__.py."""
