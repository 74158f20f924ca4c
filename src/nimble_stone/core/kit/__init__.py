"""Kits: what one product family needs. A new product is a new kit file, not new code."""
