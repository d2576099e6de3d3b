"""Meeting a list, or a place where none stands: what came of it."""

from typing import TypeGuard

from msgspec import Struct

from greyheron.core.lists.frames import Frame
from greyheron.core.lists.matching import Decision
from greyheron.model.attachment import AttachmentPoint


class Filtered(Struct, frozen=True):
    """A list was met and decided. `frame`: what it saw, if it is a frame list (§14)."""

    point: AttachmentPoint
    list_name: str
    decision: Decision
    frame: Frame | None = None


class Unfiltered(Struct, frozen=True):
    """An attachment point with no list; `own` when lists are skipped for the device's own packets."""

    point: AttachmentPoint
    own: bool = False


def denies(met: object) -> TypeGuard[Filtered]:
    """Whether a list was met that denies."""
    return isinstance(met, Filtered) and met.decision.denies
