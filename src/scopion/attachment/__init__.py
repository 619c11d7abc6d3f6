"""How this machine is attached to its networks. This room is the only seam to the world: live, or a scene."""
