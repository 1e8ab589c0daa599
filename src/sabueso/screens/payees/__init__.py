"""Payees over time: who came back from silence, who was paid once and much, who before being known."""
