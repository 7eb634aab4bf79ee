"""One prediction from admitted to recorded: the call, its body, what answers it, and what follows the answer.

Knows lanes and records; does not know HTTP or gRPC, which only read and write bytes, nor how endpoints are changed.
"""
