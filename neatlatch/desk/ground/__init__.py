"""What everything stands on: problems, bodies, the safe and its key file, the journal, people,
start-up.
"""
