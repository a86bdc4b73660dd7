"""Base templates, static files, sign-in, the start page and the demo data."""
