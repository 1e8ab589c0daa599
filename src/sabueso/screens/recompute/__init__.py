"""Figures computed again from what they are made of: products, balances, totals, instalments."""
