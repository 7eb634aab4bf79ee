"""Whether a window of rows looks like the reference: watched features, bins, sketches, verdicts, outlier scores, attribution.

Knows schemas; formulas name their sources. Does not know where rows are kept or how often windows are judged.
"""
