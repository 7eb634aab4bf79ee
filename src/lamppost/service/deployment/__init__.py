"""What this node serves: the route table, lanes that are kept open, reconciling with the database, changes, rollouts.

Knows predictors; does not know transports or the API.
"""
