"""Artwork, jobs and print files: what print modes are for."""
