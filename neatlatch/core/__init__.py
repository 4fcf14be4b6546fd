"""The rules and computation of the job.

Pure Python: no Django, no sockets, no files and no clock. Time and randomness come in as
arguments; frozen dataclasses go in and come out. Each module holds one idea and names the
standard, section by section, that its rules come from.
"""
