"""What is shown and asked for: the API, a module for each page, event streams, draws and protocol
endpoints.
"""
