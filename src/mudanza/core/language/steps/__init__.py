"""The steps of the language. A step is one function with its declaration; see `declaring`."""
