"""The use cases, a function each. They join the rooms below and own the transactions."""
