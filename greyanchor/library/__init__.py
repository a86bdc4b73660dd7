"""Printers, ink sets, media and print modes, with their history."""
