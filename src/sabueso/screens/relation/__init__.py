"""How two measures of rows or entities go together, and who stands off their line."""
