"""Pieces placed on a strip of media."""
