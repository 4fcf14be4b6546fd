"""Profiles that come with Neat Latch: what known applications want of a caller, one
YAML file each.
"""
