"""Who used the line: the counters as they were read last, and what passed, in minutes, hours and days."""
