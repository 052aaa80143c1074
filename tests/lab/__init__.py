"""A really booted Debian to try Lumtak on.

Its own kernel under user-mode Linux, with a deliberately heavy set of units.
"""
