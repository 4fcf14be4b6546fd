"""Neat Latch: both halves of every connection, and where they meet."""

__version__ = "0.1.0"
