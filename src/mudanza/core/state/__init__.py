"""What is remembered: the ledger, key pages, what went out; and files that appear whole or not at all."""
