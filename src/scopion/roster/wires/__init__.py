"""Where adapters hang by cable: the switches and their ports, the sockets that people name, and stays at ports."""
