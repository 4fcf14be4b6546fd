"""What is administered, and every rule for changing it: applications, clients, credentials,
connections, workloads.
"""
