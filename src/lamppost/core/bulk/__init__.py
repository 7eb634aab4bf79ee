"""Bulk runs: what is asked for, how columns become fields, which rows are left out and why, what the output holds, how far a run is.

Knows schemas and payloads. Files, databases, clocks and processes are the business of `lamppost.service.bulk`.
"""
