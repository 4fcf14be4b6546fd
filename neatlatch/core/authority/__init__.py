"""The rules of an OAuth 2.0 authorization server, without its storage and its network: what is
asked, whether it may be, and what is answered.
"""
