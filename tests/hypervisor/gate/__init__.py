"""An appliance with an HTTPS interface of its own kind, as a real system."""
