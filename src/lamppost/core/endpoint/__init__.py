"""What an endpoint serves and what it promises its callers: setups, shares, rollouts and their guards, the declared document.

Knows schemas, manifests and monitoring settings; does not know lanes or requests under way.
"""
