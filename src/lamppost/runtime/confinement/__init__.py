"""Confines worker processes by the kernel: which files they reach, which system calls they make, which user they are.

Knows nothing of packages and lanes, and imports nothing but the standard library, because it runs before anything else in a worker.
"""
