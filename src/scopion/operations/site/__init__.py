"""The site at hand: its folder, settings, secrets and roster, how each is opened, changed and kept up."""
