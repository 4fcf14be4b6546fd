"""Certificates: reading, explaining and judging them (RFC 5280, RFC 9525, RFC 2986, RFC 7292).

Parsing and the arithmetic of signatures are the library's; the rules by which a chain is judged are
written here.
"""
