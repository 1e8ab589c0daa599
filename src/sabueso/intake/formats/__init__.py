"""From texts to values: names, headers, roles, dates, numbers, and the conversion of a batch."""
