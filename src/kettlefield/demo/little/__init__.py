"""A real little model: its weights, and a NumPy runtime that serves them."""
