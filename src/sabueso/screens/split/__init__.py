"""Amounts just under a limit: how many more than around it, of whom, and bundles that together pass it."""
