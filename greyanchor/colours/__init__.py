"""Spot colours on modes, swatch books, and the light that all of it is seen in."""
