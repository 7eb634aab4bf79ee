"""Bytes of a request to rows and columns, and answers to bytes: the validation plan, lenient reading, NDJSON, CSV and Arrow.

Knows schemas; does not know who asks or what answers.
"""
