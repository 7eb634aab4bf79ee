"""The tests mirror src/lamppost; end_to_end starts real services on loopback and drives the console in a real browser.

Properties have no deadline: how fast this machine is at the moment is none of them.
"""

from hypothesis import settings

settings.register_profile("lamp post", deadline=None)
settings.load_profile("lamp post")
