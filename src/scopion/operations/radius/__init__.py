"""Lists by RADIUS at a site: the files that commands and the server share, and what is read from them."""
