"""What the values of a column look like."""
