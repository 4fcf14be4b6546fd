"""The Django project: one app for each noun of the work."""
