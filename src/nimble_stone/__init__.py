"""Nimble Stone: rolls virtual appliances and clusters out onto hypervisor hosts."""

__version__ = "0.1.0"
