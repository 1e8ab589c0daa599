"""Sabueso: screens ledger and payment transactions and records the review of what was flagged."""

from sabueso.version import __version__

__all__ = ["__version__"]
