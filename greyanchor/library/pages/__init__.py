"""Lists and pages of shared records, and the forms that edit them."""
