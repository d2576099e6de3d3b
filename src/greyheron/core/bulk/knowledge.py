"""What devices know of a conversation on one of its ways, numbered."""

import numpy as np
from msgspec import Struct

from greyheron.core.headers import Bools, Ints

MOST_KNOWLEDGE = 1 << 12
"""Where firewalls stand beside each other, packets that passed different ones multiply after all."""


class Knowledge(Struct, frozen=True):
    """What tells two packets of one row at one place apart.

    known:  devices that keep a session of the conversation
    awaited:  those that drop later packets unless they see this one;  seen:  which of them have
    """

    known: frozenset[int] = frozenset()
    awaited: frozenset[int] = frozenset()
    seen: frozenset[int] = frozenset()


class KnowledgeTable:
    """Every knowledge that occurs, by its number; 0 is to know nothing."""

    def __init__(self) -> None:
        self.values: list[Knowledge] = []
        self._number: dict[Knowledge, int] = {}
        self.number(Knowledge())

    def number(self, knowledge: Knowledge) -> int:
        if knowledge not in self._number:
            self._number[knowledge] = len(self.values)
            self.values.append(knowledge)
        return self._number[knowledge]

    def knows(self, numbers: Ints, devices: Ints) -> Bools:
        """Whether each knowledge has a session at a device."""
        pairs, index = self._pairs(numbers, devices)
        found = [device in self.values[number].known for number, device in pairs]
        return np.array(found, dtype=np.bool_)[index]

    def with_session(self, numbers: Ints, devices: Ints) -> Ints:
        """Each knowledge when a device keeps a session too."""
        pairs, index = self._pairs(numbers, devices)
        found = [self.number(_with_session(self.values[number], device)) for number, device in pairs]
        return np.array(found, dtype=np.int64)[index]

    def seen_at(self, numbers: Ints, devices: Ints) -> Ints:
        """Each knowledge when the packet has come to a device."""
        pairs, index = self._pairs(numbers, devices)
        found = [self.number(_seen_at(self.values[number], device)) for number, device in pairs]
        return np.array(found, dtype=np.int64)[index]

    @staticmethod
    def _pairs(numbers: Ints, devices: Ints) -> tuple[list[tuple[int, int]], Ints]:
        codes, index = np.unique(numbers << 32 | devices, return_inverse=True)
        return [(code >> 32, code & 0xFFFF_FFFF) for code in codes.tolist()], index


def _with_session(knowledge: Knowledge, device: int) -> Knowledge:
    return Knowledge(knowledge.known | {device}, knowledge.awaited, knowledge.seen)


def _seen_at(knowledge: Knowledge, device: int) -> Knowledge:
    seen = knowledge.seen | (knowledge.awaited & {device})
    return Knowledge(knowledge.known, knowledge.awaited, seen)
