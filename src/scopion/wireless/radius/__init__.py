"""MAC lists by RADIUS: what is answered to access points that ask, and when. Pure: packets, times and files come in."""
