"""Kit files that ship with the product."""
