"""Modes in use: baselines, restores to them, and profiles refined by prints."""
