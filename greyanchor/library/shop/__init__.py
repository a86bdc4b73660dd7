"""The shop: rules, people, sites and keys of programs."""
