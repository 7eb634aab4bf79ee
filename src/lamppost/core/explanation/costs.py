"""What an explanation may cost unless something else is asked for."""

ROWS = 2_000
SECONDS = 2.0
