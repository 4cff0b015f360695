"""The disk: files that appear whole or not at all, what of them stands, and temporary folders that never stay."""
