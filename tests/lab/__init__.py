"""The lab: real kernel hosts in network namespaces, and the installed program among them.

It needs Linux, root, ip and nft. Elsewhere its tests are skipped and say so; with CI set a skip is a failure, so that
a run without the lab is not taken for a whole one.
"""
