"""The parts of the watch that read what others tell: lease files, routers, switches, meters, access points."""
