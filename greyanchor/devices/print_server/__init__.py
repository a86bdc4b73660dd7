"""The stand-in printer: a server of its own that takes print files over the Internet Printing Protocol."""
