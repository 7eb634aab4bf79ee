"""Records of calls on their way from an answer to PostgreSQL: buffer, spool, the writer process, counts, spans, metrics.

Nothing here is on the way of an answer. Does not know routes or lanes.
"""
