"""Printers and instruments: ports that the application asks, drivers that answer, and a registry that finds
them.

`ports` says what a driver provides, `registry` finds every installed driver by its entry point. The drivers
in `standin` (simulated devices) and `folder` (devices with programs of their own) are ordinary ones.
"""
