"""A file that came back from a loan: what it is, whose it is, where its table stands, and which record each row is."""
