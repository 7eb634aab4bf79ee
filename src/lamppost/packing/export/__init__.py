"""From a package to other forms of it: SQL, a Python module, a C file, an ONNX graph. Each is held against the package's own answers.

Knows lamp files and compiled graphs; nothing of services.
"""
