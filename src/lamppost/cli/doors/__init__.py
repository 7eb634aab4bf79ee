"""Command ``door``: forwards requests from this machine to a service, over HTTP and over gRPC."""
