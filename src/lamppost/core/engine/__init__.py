"""Rules of queues and copies: what waits, how rows are cut into batches, how many copies a lane has, when to try again.

All of it is driven from outside, which passes the time in. Knows nothing of rows beyond their number.
"""
