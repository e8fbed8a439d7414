"""Marks by people and by a judge model: blind, with their agreement, and the scores made of them."""
