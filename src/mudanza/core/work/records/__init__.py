"""A look at chosen records of anything: what is asked, of what, the answer, and the file that it is written to."""
