"""People, sites, roles, keys of programs, and the audit log."""
