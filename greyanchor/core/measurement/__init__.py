"""Readings: what an instrument saw, how well passes agree, and rows that were misread."""
