"""The rows of what the house issues."""
