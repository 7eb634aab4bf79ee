"""Front processes: they share the port of a node, read and check the usual predictions, and write their answers and records.

The node keeps everything that must be one: lanes, rates, hooks, the spool, metrics. A front asks the node for the answers to rows over a
socket of messages. A connection on which something else is asked moves to the node, as an open file with the bytes that were read, and
moves back when it asks for usual predictions again. What a front knows (endpoints, tokens) may be out of date for a moment: the node
checks each question, and takes the connection over where it has changed.
"""
