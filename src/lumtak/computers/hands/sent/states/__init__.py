"""Exact states, a module a kind."""
