"""Making a list: the program of a plan, and its runs over ten rows (preview) or all of them (build)."""
