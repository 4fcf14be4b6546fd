"""Commands that work from anywhere: by the API of a desk, with a program's token or in the name of
somebody who logged in.

Nothing here knows the desk's database; what a command asks is what any program can ask.
"""
