"""Findings, queues, drill-downs and papers made visible. No calculation here."""
