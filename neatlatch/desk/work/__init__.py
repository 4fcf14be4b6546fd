"""What is done with connections: rounds and tests, draws and relay, replacing, access rules,
benches, inventory.
"""
