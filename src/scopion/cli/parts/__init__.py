"""What commands share: options, the session, tables and formats, and rows for devices and events."""
