"""SVG drawings of core results: plots, patch maps, sheets, gamut slices. Colour only where data are
colour.
"""
