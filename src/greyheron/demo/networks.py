"""The demo networks that ship with Grey Heron."""

from importlib.resources import files

from greyheron.formats.workspace import read_workspace
from greyheron.model.document import Network


def saltmarsh() -> Network:
    """The Saltmarsh wildlife reserve."""
    return _read("saltmarsh.yaml")


def storm() -> Network:
    """Saltmarsh after the storm: the same network with faults planted in it."""
    return _read("storm.yaml")


def _read(name: str) -> Network:
    return read_workspace(files("greyheron.demo").joinpath(name).read_bytes())
