"""Stand-ins for hypervisor hosts: their state and the commands that change it."""
