"""Limits by deviates from the mean or the median."""
