"""Source formats: one module reads one of them, and gives batches of text cells with their lines."""
