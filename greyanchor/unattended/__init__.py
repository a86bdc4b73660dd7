"""Work that machines with a reader inside do alone: whole builds, and modes kept true at night."""
