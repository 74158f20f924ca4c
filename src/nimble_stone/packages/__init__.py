"""Packages: received, fetched, unpacked, stored, and carried to datastores."""
