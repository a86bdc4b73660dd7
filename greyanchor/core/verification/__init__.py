"""Aims, groups of patches, tolerance sets and checks: one print against one aim."""
