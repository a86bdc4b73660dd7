"""What was swapped in machines, and what changed between two states of a mode, with its likely cause."""
