"""Finding hosts: the sweep as a state machine, the ways of asking, and the runner that drives them."""
