"""The installed program: commands, documents, packaging, the made-up site."""
