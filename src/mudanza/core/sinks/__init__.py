"""Formats that files are written in: each with what it cannot hold, its writer and its reader."""
