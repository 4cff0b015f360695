"""What programs do to values that nobody edits, told apart from edits by the mark that it leaves on a column."""
