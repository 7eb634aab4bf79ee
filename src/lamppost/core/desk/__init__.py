"""Desks: pages for people who only ask. What a desk shows and calls things, how an answer is said, and how columns are understood.

Knows schemas and what endpoints promise; knows no page, no request and no file.
"""
