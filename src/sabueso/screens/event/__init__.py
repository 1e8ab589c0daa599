"""The days around a known date against all others, in all and by whoever the rows are of."""
