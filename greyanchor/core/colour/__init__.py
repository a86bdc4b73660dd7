"""Colour: colorimetry, density, illuminants, and a uniform colour space."""
