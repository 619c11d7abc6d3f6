"""The lab: real kernel hosts in network namespaces, and the installed program among them.

It needs Linux, root, ip and nft. Elsewhere its tests are skipped and say so; with CI set a skip is a failure, so that
nobody takes a run without the lab for a whole one.
"""
