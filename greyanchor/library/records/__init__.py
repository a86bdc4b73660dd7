"""Editing what several people share: versions, merging, history, notes, files."""
