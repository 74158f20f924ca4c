"""What can be done to a hypervisor host and to a node: observe, act, undo."""
