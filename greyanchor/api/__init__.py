"""The open door for other programs: JSON under /api/v1/, described in openapi.json, signed in with a key."""
