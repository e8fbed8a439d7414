"""Procedures that measure."""
