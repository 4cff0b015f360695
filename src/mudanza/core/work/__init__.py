"""One use case each, on all the other rooms."""
