"""Measures settings of lanes, in a process beside the service."""
