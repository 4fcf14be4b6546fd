"""SQLite as Django knows it, but for prefetching more than a thousand rows."""
