"""Paths that a cutter follows."""
