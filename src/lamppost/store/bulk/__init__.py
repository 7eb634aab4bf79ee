"""Stores bulk runs and what belongs to them."""
