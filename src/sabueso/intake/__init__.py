"""From source files to Parquet: readers, checks, quarantine and reconciliation."""
