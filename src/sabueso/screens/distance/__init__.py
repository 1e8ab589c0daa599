"""Distance on several measures."""
