"""The rules that the plan declares of a table."""
