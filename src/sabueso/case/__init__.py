"""The case folder: plan, sources, runs, exceptions and the review register."""
