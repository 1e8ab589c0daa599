"""What the tests that set limits on one measure share: the limits as a table, scales, views."""
