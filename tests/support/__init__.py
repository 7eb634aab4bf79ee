"""What several tests need: small models, lamp files, a running service."""
