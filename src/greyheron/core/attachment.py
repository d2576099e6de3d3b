"""Attachment points: the places where a list can stand (RFC 8519's term)."""

from dataclasses import dataclass

from greyheron.model.values import Direction


@dataclass(frozen=True, slots=True, order=True)
class AttachmentPoint:
    """An interface or management line of a device, and a direction seen from the device."""

    device: str
    at: str
    direction: Direction
