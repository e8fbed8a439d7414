"""Builds and runs untrusted code in isolation."""
