"""The API for everything but predictions: FastAPI routers by resource, with their schemas beside them.

A router checks who asks, calls the parts of the node, and maps what they return; it holds no rules of its own.
"""
