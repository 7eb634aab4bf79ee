"""Nodes without a database: what they serve comes from lamp files on disk, or from a hub.

Knows the parts of a node, and starts only those that need no database.
"""
