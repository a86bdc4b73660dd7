"""Pages of colours and lights."""
