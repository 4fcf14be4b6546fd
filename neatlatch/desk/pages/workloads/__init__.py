"""Pages of workloads of connections."""
