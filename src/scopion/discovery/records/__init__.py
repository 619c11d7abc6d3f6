"""Records that other machines keep: leases, captures, neighbour listings, client lists. Text in, observations out."""
