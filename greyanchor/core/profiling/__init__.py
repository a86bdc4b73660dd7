"""Separation, inversion, rendering and the tables of an ICC profile, with its quality report."""
