"""Where devices are: at which port of which switch, or on which access point; and the map of the wires."""
