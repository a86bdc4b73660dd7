"""Screens: from tone to dots."""
