"""Commands that measure: loads."""
