"""Reads models of the Predictive Model Markup Language, which other software writes, as compiled graphs."""
