"""The air: real 802.11 stacks of a Linux kernel, in an emulated machine whose only cable leads into a lab's namespace.

``machine`` boots it, ``inside`` is what runs there on our behalf, ``radios`` lays out access points and stations. It
needs what the lab needs, an emulator and a kernel (``tools/air.sh``); it is skipped, or fails in CI, in the same way.
"""
