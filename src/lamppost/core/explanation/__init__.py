"""Explains answers: what each field contributed, the smallest changes that turn an answer, a rule that it follows, and one field's curve.

Nothing here knows a model or asks one: each explanation is a generator that yields rows as JSON objects and is sent their answers, so that
whoever drives it decides how they are asked. May know schemas, references and numerics.
"""
