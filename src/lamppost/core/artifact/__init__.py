"""What a lamp file says: manifest, steps, proof, reference, the differences between two of them, and schemas inferred from a frame.

Knows schemas and what drift needs of a reference; does not read or write files.
"""
