"""Pages of checks."""
