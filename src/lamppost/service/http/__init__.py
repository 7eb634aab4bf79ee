"""Predictions over HTTP: the connection with its bounds, the fast path of the usual call, the ASGI handler of any other.

Reads and writes bytes; what happens to a call is in `lamppost.service.prediction.call`.
"""
