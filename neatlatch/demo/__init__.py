"""The scenario of the demo, Gannet Sound Ferries, and its loader."""
