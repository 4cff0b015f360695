"""The small language of flows and conditions: grammar, kinds, steps, and compiling to Polars expressions."""
