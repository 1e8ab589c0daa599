"""A share of the largest or smallest rows."""
