"""What to print: patch sets for each purpose, sheet layout, and sheets as TIFF and PDF, always raw."""
