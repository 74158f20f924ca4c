"""Routers by subject."""
