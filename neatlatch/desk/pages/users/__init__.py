"""Pages of users of connections."""
