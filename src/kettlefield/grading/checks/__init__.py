"""Kinds of checks, one module each."""
