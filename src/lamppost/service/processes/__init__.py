"""Processes of our own that run beside the service: how it talks with them, and how their log lines reach its log.

Knows nothing of what they do.
"""
