"""What the plan asks of the rows of a table, and whether they keep it."""
