"""What a site's folder has besides its roster and settings: where it is, its locks, the secrets that settings name."""
