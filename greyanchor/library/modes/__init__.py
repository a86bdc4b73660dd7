"""Print modes: search, comparison, ranking, editions, release."""
