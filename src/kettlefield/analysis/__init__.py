"""The record read back: figures, comparison, verdict."""
