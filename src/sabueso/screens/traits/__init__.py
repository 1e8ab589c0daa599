"""Traits that go with entries made up: how many bits of surprise an entry's traits are worth together."""
