"""The JSON interface for other programs under /api/v1/, described in openapi.json from this code."""
