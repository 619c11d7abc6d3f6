"""How this machine is attached to its networks. The one seam to the world: live or a scene, nothing above can tell."""
