"""The server that answers access points by RADIUS: a process of its own, so that no other work delays it."""
