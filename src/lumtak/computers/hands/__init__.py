"""Hands: the only way to a real computer; each acts as whoever it runs as."""
