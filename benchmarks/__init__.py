"""Measures what the README quotes: ``python -m benchmarks [NAME...]`` (``make bench``). Ratios, from one run."""
