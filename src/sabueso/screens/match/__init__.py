"""Keys of one table among those of another: who is absent, and who is there and should not be."""
