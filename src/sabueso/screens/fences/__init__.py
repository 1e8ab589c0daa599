"""Limits by quartiles."""
