"""Packages and versions as this node sees them: the cache of lamp files on its disk, and lists of stored versions.

Knows the store and lamp files; does not know what is served.
"""
