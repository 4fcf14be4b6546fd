"""What the house issues: clients, keys, tokens, certificates, handovers; and keeping it, by back-up
and re-keying.
"""
