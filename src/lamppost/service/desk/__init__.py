"""What a desk does with a question and with a file: on predictions and bulk runs, without knowing them otherwise.

Knows deployment, predictions, explanations and bulk runs; knows no request of HTTP.
"""
