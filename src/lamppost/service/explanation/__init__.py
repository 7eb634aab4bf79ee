"""Explains answers of endpoints and versions: finds the reference, asks the lanes at bulk priority, keeps a note of each explanation.

May know lanes, predictors, deployment and the store; knows no HTTP.
"""
