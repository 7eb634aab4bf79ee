"""Draws pages that people take with them, as HTML and PDF: reports of endpoints and cards of models.

Each is drawn from facts in JSON by a process of its own, so that the drawing libraries are never loaded into the service.
"""
