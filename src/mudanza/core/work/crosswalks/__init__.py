"""The codes that flow through a plan, and what becomes of them."""
