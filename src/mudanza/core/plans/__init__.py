"""A move's settings and plans as plain data: read, written, remarked upon."""
