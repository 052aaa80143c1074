"""The full-screen workbench.

A screen arranges, widgets show and post messages, workers do the work.
"""
