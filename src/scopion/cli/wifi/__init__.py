"""Commands about wireless lists, one file for each step of the work; ``group`` joins them."""
