"""Reading old exports: one common result whatever the format (see `opening.open_source`)."""
