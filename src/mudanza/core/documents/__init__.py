"""Texts that people write, as data that knows its places; and the errors that point into them."""
