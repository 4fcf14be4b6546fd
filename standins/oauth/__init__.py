"""Outside applications that keep their own client registrations: OAuth 2.0 providers, each with its
own ways.
"""
