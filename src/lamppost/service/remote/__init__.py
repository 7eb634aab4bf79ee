"""Endpoints of other services that take part in an answer: connections, descriptions, and calls."""
