"""Checks: one print against one aim under one tolerance set, with the readings they came from."""
