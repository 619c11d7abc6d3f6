"""The units by which the system's service manager runs what goes on for long, and how they are set up here."""
