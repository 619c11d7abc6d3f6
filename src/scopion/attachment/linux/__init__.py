"""How a Linux machine is attached: netlink, packet sockets with a kernel filter, a UDP socket's error queue."""
