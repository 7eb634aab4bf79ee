"""Puts load on a service from processes beside it, over HTTP as any client does.

Knows the HTTP interface and core's public values.
"""
