"""Where the job is thought through: plain functions and frozen values, no I/O, no clock, nothing else of ours."""
