"""The watch and its alerts, on made-up sites and a virtual clock."""
