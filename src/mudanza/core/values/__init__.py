"""Kinds of value, how they are written, and the columns that every row carries. Each table of words stands here once."""
