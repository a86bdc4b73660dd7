"""Packs: import, export, the supplier's catalogue."""
