"""What is shown and asked for: the API, a module for each page, event streams, doors and protocol
endpoints.
"""
