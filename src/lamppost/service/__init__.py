"""The service: API, prediction path, sign-in, routes, records, monitoring. One process of it is a node.

Directly in this folder stand what every part uses (sign-in, settings, a cache) and what puts the parts together (node, app). The
sub-packages stand in between, in the order in which they may use each other; `docs/architecture.md` lists it and a test holds it.
"""
