"""Fields and the kinds of values that they hold: text to value, value to text, columns and rows, pictures, redaction of private fields.

Knows nothing of requests, packages or endpoints.
"""
