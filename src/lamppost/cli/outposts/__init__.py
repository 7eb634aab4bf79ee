"""Commands on outposts, which talk to their hub."""
