"""Computation only: arrays in, arrays and small records out. Nothing here knows of Django or of the apps.

Names are imported from their modules, so that the command loads no more than it needs.
"""
