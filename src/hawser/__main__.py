"""`python -m hawser`."""

import sys

from hawser.cli import main

sys.exit(main())
