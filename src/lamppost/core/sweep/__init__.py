"""Sweeps over settings of lanes: what is asked, what is measured next, and which setting is best within limits.

Knows numbers and names; measures nothing.
"""
