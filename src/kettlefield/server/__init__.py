"""Inference servers: their processes and the clients that speak to them."""
