"""Everything that touches a network: roads, OAuth requests, and the rungs of the ladder.

Knows no Django.
"""
