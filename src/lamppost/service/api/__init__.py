"""The API for everything but predictions: FastAPI routers by resource, with their schemas beside them.

A router checks permissions, calls the parts of the node, and maps their results to schemas; it holds no rules of its own.
"""
