"""Deletes endpoints, versions and models: marks them, gives endpoints back, and deletes what is left behind."""
