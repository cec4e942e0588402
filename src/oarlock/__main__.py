"""`python -m oarlock` is the `oarlock` command."""

import sys

from oarlock.cli import main

sys.exit(main())
