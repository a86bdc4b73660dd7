"""Files that are to be printed: pictures, pages, and what is in them."""
