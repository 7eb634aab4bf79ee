"""From a fitted model to an endpoint that answers, in one call; and the endpoint as an object.

Knows packing and the client. Where no service runs, it starts one for this interpreter.
"""
