"""What headings mean: words of many languages, and how programs shorten them."""
