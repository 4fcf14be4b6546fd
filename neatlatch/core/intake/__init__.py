"""Paste or drop anything: its values are recognised, cleaned and put where they belong."""
