"""Limits that are declared."""
