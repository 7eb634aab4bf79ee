"""Making lamp files: from a fitted model and its training frame, compiled where that is exact, to a file that has proved itself.

Knows core, package and runtime (the proof runs in a worker).
"""
