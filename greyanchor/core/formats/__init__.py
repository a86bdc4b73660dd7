"""Open formats, read liberally and written strictly: CGATS text and ICC profiles."""
