"""Measures over time."""
