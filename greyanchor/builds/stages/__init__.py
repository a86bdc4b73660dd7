"""The stages of a build, one file each."""
