"""The made-up estate, its products and plans: data, and what reads it."""
