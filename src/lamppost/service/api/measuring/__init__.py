"""API of what is measured: loads and sweeps."""
