"""The rows of what is administered, an app for each noun. Rules stand in the packages beside it."""
