"""Stand-ins for VMs: they open real sockets and answer as their product does."""
