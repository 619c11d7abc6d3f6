"""The memory: folding, changes, files in and out, copies and damage."""
