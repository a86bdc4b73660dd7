"""Work that takes longer than a page may: progress, cancel, errors kept."""
