"""Pages of profiles."""
