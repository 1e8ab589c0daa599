"""The same thing twice: rows of one party and amount that lie close together or share a document."""
