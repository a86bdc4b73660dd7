"""Machines: readiness, memory slots, loaded media."""
