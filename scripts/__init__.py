"""Scripts that keep the project in order."""
