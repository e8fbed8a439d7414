"""Exercises: their format, their loader, their lock."""
