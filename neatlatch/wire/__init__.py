"""Everything that touches a network: transports, OAuth requests, and the rungs of the ladder.

Knows no Django.
"""
