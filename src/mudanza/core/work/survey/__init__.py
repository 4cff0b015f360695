"""A first look at sources: are they whole, what is in each column, what is a key, what refers to what."""
