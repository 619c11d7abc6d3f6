"""The long attack (``make attack``): mutated inputs, replies of servers, kills and interrupts, damaged rosters.

``tests/attack/test_attack.py`` runs a sample of each with every test run.
"""
