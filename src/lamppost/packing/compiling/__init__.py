"""From a fitted step to one ONNX graph that gives the same answers, or the reason why there is none.

Knows the step, its schemas and scikit-learn's fitted objects; nothing of packages, files or proofs.
"""
