"""What the service, its workers and its record writer say: kept in files of each node, and read through the nodes.

This room knows the standard library's logging and the store's list of nodes. It knows nothing of predictions or deployment.
"""
