"""What a plan compiles to, and how it is run over rows."""
