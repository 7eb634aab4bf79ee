"""Commands on bulk runs and their schedules."""
