"""The target's import layouts: CSV on the Web metadata (W3C) read strictly, checked against, and written by."""
