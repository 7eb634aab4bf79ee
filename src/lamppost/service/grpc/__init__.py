"""Predictions over gRPC, beside HTTP. ``predict_pb2`` is generated from ``predict.proto`` by ``make proto``."""
