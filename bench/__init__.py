"""Measurements that anybody can run, as ratios inside one run: ``make bench``."""
