"""Records of colour data: ICC profiles with their quality report, and aims."""
