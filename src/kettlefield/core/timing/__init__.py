"""Timing: stamps into figures, pacing of requests, which samples make a figure."""
