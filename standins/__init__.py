"""The simulated business applications, each a program of its own.

They share no code with Neat Latch, so that it is never tested against itself.
"""
