"""Drafting: which source column each field of a layout comes from, and the flow that it needs."""
