"""Lamp files: writing, reading, unpacking. Knows core and the file system."""
