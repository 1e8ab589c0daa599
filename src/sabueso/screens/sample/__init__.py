"""Samples that anyone can draw again."""
