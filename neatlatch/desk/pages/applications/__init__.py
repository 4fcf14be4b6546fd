"""Pages of applications."""
