"""Charts as printed, reading sessions kept row by row, and double reading."""
