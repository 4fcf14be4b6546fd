"""Outside applications that hand out keys, tokens, passwords and accounts, each from a plain
administration screen of its own.
"""
