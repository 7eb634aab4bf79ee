"""Writes a package as an image for containers, in the layout of the Open Container Initiative."""
