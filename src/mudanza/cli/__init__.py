"""The command line: words and exit codes around the core."""
