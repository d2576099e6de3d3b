"""What a store refuses, and why."""

from greyheron.model.errors import GreyHeronError


class UnknownNetwork(GreyHeronError):
    """There is no network with that id."""

    remedy = "it may have been removed"


class UnreadableNetwork(GreyHeronError):
    """What is kept of a network no longer reads: it was written by something else, or is damaged."""

    remedy = "take out what is kept as it is, or make a network of what reads"

    def __init__(self, network_id: str, name: str, reason: str) -> None:
        super().__init__(f"what is kept of “{name}” ({network_id}) does not read: {reason}")


class UnknownRevision(GreyHeronError):
    """The network has no revision with that number."""


class NothingToDo(GreyHeronError):
    """There is no edit to undo or redo, or nothing to apply."""


class VersionConflict(GreyHeronError):
    """The network was changed since the version that a write was based on."""

    remedy = "look at the newer draft, then make your edit again"

    def __init__(self, based_on: int, current: int) -> None:
        self.based_on = based_on
        self.current = current
        super().__init__(f"based on version {based_on}, but the network is at version {current}")
