"""Bulk runs: files and tables in, answers out, block by block, in a process of their own beside the service.

Knows deployment's rooms only to open versions; nothing of HTTP.
"""
