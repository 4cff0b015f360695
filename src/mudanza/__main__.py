"""`python -m mudanza`."""

import sys

from mudanza.cli.main import main

sys.exit(main())
