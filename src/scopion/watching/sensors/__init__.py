"""What goes through a broker: a sensor that reports, the part of the watch that hears it, and home automation."""
