"""The rules of the job as plain functions and frozen values: values in, values out.

A module in core does no I/O, reads no clock, starts no thread or process, and imports nothing of ours outside of core. Directly in this
folder stand errors, names, bounds, roles and trace contexts; the sub-packages stand in the order in which they may use each other.
"""
