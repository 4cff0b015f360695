"""The parts of a check: a file as its layout says it is written, its headings, keys and references."""
