"""How an endpoint is doing: latency histograms, alert rules, quality of answers, and the settings of all of that.

Takes figures in and gives readings out; does not know where figures are stored or who hears of an alert.
"""
