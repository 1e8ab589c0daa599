"""One period against another, or against a budget."""
