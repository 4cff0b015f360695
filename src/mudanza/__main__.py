"""`python -m mudanza`."""

from mudanza.cli.main import main

main()
