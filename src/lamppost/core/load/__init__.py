"""Load on endpoints: what is asked, what came of it, and whether two loads differ.

Knows numbers and names; knows no connection and no clock.
"""
