"""The tests mirror src/lamppost; end_to_end starts real services on loopback and drives the console in a real browser."""
