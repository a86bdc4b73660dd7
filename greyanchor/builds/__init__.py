"""Builds: stages from a frozen environment to a released print mode."""
