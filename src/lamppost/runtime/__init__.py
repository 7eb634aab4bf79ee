"""Steps as running code, worker processes and their wire, lanes. Knows core and package."""
