"""One prediction from admission to record: the call, its body, its predictor, and the hooks after the answer.

Knows lanes and records; does not know HTTP or gRPC, which only read and write bytes, nor how endpoints are changed.
"""
