"""Pages of builds."""
