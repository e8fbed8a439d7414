"""Figures, each a function from data frames to a chart with its own words."""
