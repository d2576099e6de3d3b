"""`python -m greyheron`: the same as `grey-heron`."""

from greyheron.cli.main import app

app()
