"""Weights files: headers in, facts out."""
