"""What rows are: kinds of which somebody has far more than all others."""
