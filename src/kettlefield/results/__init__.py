"""A record read back: figures, comparison, timing, memory."""
