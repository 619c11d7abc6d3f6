"""The tests. ``make test`` runs them all; the lab needs Linux and root, see tests/lab/__init__.py."""

import logging

# What the watch logs is looked at where a test asks for it: the program's own log, not this one.
logging.getLogger("scopion").addHandler(logging.NullHandler())
