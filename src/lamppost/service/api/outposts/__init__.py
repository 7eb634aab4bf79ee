"""API of outposts, at their hub, and of nodes without a database."""
