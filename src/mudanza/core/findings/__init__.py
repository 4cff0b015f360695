"""What is noticed about data: a finding, its codes, the problems that make it, and the tally of many."""
