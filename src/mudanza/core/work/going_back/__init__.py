"""Flows turned round: what a column of an old program would have to hold for a field to be what people made of it."""
