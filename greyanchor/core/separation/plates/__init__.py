"""Separations for film and screen printing: one plate an ink, screened, with what registers it."""
