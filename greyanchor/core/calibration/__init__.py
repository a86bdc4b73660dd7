"""Ink limits, linearization curves and total ink, from readings of ramps and rising sums."""
