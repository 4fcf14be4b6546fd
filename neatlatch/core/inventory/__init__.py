"""The whole inventory as one declarative file: its shape, reading it with lines, and what applying
it would change.
"""
