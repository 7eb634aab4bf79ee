"""The background jobs of the leading node, and the figures that pages show: drift, alerts, notices, reports, outcomes.

Reads the store and the route table; nothing here is on the way of an answer.
"""
