"""Printers and media: the print environment, handling settings, readiness and throughput."""
