"""The file itself: its schema, how it is opened and copied, and files written so that nothing is lost."""
