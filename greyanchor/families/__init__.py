"""Print modes that print alike: one common gamut, met by every member with its own inks."""
