"""Attachment points: the places where a list can stand (RFC 8519's term)."""

import re
from dataclasses import dataclass

from greyheron.model.values import Direction, LineKind

_LINE = re.compile(rf"(?:{'|'.join(LineKind)})(?:/\d{{1,3}}-\d{{1,3}})?")


@dataclass(frozen=True, slots=True, order=True)
class AttachmentPoint:
    """An interface or management line of a device, and a direction seen from the device."""

    device: str
    at: str
    direction: Direction

    @property
    def is_line(self) -> bool:
        """Whether it is a management line: no interface is called like one."""
        return _LINE.fullmatch(self.at) is not None

    def __str__(self) -> str:
        """As seen from its device: “entering lagoon by eth1”."""
        if self.is_line:
            return f"{self.device}’s {self.at} line"
        verb = "entering" if self.direction is Direction.IN else "leaving"
        return f"{verb} {self.device} by {self.at}"
