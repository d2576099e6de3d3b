"""`python -m greyheron`: the same as `grey-heron`."""

import sys

from greyheron.cli.main import main

sys.exit(main())
