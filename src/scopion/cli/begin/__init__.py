"""Commands for the first steps: setup and demo."""
