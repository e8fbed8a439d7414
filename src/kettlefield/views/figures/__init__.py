"""Figures: data frames in, charts with their captions out."""
