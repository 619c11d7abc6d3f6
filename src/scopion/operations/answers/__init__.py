"""Answers to access points by RADIUS: the files by which they are given, and what gives them."""
