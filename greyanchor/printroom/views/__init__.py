"""Pages of the print room."""
