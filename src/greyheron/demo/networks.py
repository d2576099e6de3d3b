"""The demo networks that ship with Grey Heron."""

from importlib.resources import files

from greyheron.formats.workspace import read_workspace
from greyheron.model.document import Network


def saltmarsh() -> Network:
    """The Saltmarsh wildlife reserve."""
    return read_workspace(files("greyheron.demo").joinpath("saltmarsh.yaml").read_bytes())
