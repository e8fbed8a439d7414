"""Sizing: the memory a model requires and its highest possible speed, from its shape."""
