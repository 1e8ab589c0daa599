"""Leading digits of a measure against their expected proportions."""
