"""Stand-ins for the controllers of bare machines (Redfish)."""
