"""What everything stands on: errors, whole files, hashes, plain text. Imports nothing of the rest."""
