"""Intents: what somebody wants done to a draft, and the changes that this takes.

Whatever hangs on something that is removed, the ids and keys of what is new, and the interfaces that a link
needs are worked out here, once, for every program that asks.
"""

from collections.abc import Sequence
from itertools import count
from typing import Annotated, Any, Literal

from pydantic import Field

from greyheron.model.attachment import AttachmentPoint
from greyheron.model.changes import ITEM_TYPES, Change, ChangeError, Collection, apply, key_of, putting
from greyheron.model.device import Device
from greyheron.model.document import MOST_DEVICES, Acceptance, AccessList, Network, Placement, Position
from greyheron.model.duplicating import duplicating
from greyheron.model.item import Item
from greyheron.model.joining import joined, require_end
from greyheron.model.read import free_ids, require_items
from greyheron.model.values import Direction, Family, ListKind

Label = Annotated[str, Field(max_length=200)]
NameText = Annotated[str, Field(max_length=64)]
LineText = Annotated[str, Field(max_length=500)]
Changes = list[Change]


class Intent(Item):
    """Base of all: `label` is what undoing it is called; without one, it is called after what it does."""

    label: Label = ""

    def changes(self, network: Network) -> Changes:
        """What it takes in `network`. Raises ChangeError where it speaks of what is not there."""
        raise NotImplementedError

    def called(self, _network: Network) -> str:
        """What undoing it is called."""
        return self.label or "edit"


class MakeChanges(Intent):
    """Changes that were worked out before: a repair, a choice, what a line was read as."""

    do: Literal["changes"]
    made: Annotated[list[Change], Field(max_length=10_000)]

    def changes(self, network: Network) -> Changes:  # noqa: ARG002
        return list(self.made)


class Put(Intent):
    """An item, new or instead of the one with its key."""

    do: Literal["put"]
    collection: Collection
    item: dict[str, Any]

    def changes(self, network: Network) -> Changes:  # noqa: ARG002
        item_type = ITEM_TYPES[self.collection]
        try:
            key = key_of(self.collection, item_type.model_validate(self.item))
        except ValueError:  # the edit will say what is wrong with it, under the name that it has
            key = str(self.item.get("name") or self.item.get("id") or "new")[:200]
        return [Change(collection=self.collection, key=key, item=self.item)]


class Remove(Intent):
    """An item goes, and what hangs on it: a device's links, placements and position, a list's placements.

    Test flows, requirements and entries that name it stay.
    """

    do: Literal["remove"]
    collection: Collection
    key: Annotated[str, Field(max_length=200)]

    def changes(self, network: Network) -> Changes:
        item = _item(network, self.collection, self.key)
        hanging: list[tuple[Collection, Item]] = []
        if isinstance(item, Device):
            own = f"{item.name}:"
            hanging += [
                ("links", link) for link in network.links if any(end.startswith(own) for end in link.ends)
            ]
            hanging += [
                ("placements", placement) for placement in network.placements if placement.device == item.name
            ]
            hanging += [
                ("positions", position) for position in network.positions if position.device == item.name
            ]
        if isinstance(item, AccessList):
            hanging += [
                ("placements", placement) for placement in network.placements if placement.list == item.name
            ]
        return [*(_removing(*item) for item in hanging), _removing(self.collection, item)]

    def called(self, _network: Network) -> str:
        return self.label or f"remove {self.key}"


class JoinDevices(Intent):
    """Two devices are linked, at interfaces that are free, or made for it."""

    do: Literal["link"]
    one: NameText
    other: NameText

    def changes(self, network: Network) -> Changes:
        if self.one == self.other:
            raise ChangeError(f"{self.one} cannot be linked to itself")
        known = {device.name: device for device in network.devices}
        for end in (self.one, self.other):
            require_end(known, end)
        devices, link = joined(network, self.one, self.other)
        return [*(putting("devices", device) for device in devices), putting("links", link)]

    def called(self, _network: Network) -> str:
        return self.label or f"link {self.one} and {self.other}"


class Duplicate(Intent):
    """Devices stand there once more, with their prefixes moved on; a site is all devices that stand at it."""

    do: Literal["duplicate"]
    devices: Annotated[tuple[NameText, ...], Field(max_length=MOST_DEVICES)] = ()
    site: Annotated[str, Field(max_length=60)] = ""

    def changes(self, network: Network) -> Changes:
        there = [each.name for each in network.devices if self.site and each.site == self.site]
        if self.site and not there:
            raise ChangeError(f"nothing stands at “{self.site}” any more")
        return duplicating(network, [*self.devices, *there])

    def called(self, _network: Network) -> str:
        return self.label or f"duplicate {self.site or ', '.join(self.devices)}"[:200]


class Point(Item):
    """An attachment point."""

    device: NameText
    at: NameText
    direction: Direction

    @property
    def point(self) -> AttachmentPoint:
        return AttachmentPoint(self.device, self.at, self.direction)


class PlaceList(Intent):
    """A list is placed, or moved from where it stood.

    instead:  whether a list of its family that stands there is taken off; else that is a problem
    """

    do: Literal["place"]
    list: NameText
    to: Point
    moved_from: Point | None = None
    instead: bool = False

    def changes(self, network: Network) -> Changes:
        changes: Changes = []
        if self.moved_from is not None:
            changes.append(_removing("placements", _placed(network, self.list, self.moved_from)))
        other = self._other(network)
        if other is not None and self.instead:
            changes.append(_removing("placements", other))
        to = self.to
        # The edit says what is wrong with it, as with all that is put.
        placement = Placement.model_construct(
            list=self.list, device=to.device, at=to.at, direction=to.direction
        )
        return [*changes, putting("placements", placement)]

    def _other(self, network: Network) -> Placement | None:
        """What stands there already, of the same family."""
        families = {access_list.name: access_list.family for access_list in network.lists}
        return next(
            (
                placement
                for placement in network.placements
                if _stands_at(placement, self.to)
                and placement.list != self.list
                and families[placement.list] is families.get(self.list)
            ),
            None,
        )

    def called(self, network: Network) -> str:
        other = self._other(network)
        if other is not None and self.instead:
            return self.label or f"replace {other.list} by {self.list}"
        if self.moved_from is not None:
            return self.label or f"move {self.list} to {self.to.device} {self.to.at}"
        return self.label or f"place {self.list} {self.to.point}"


class TakeOff(Intent):
    """A list is taken off a place; the list itself stays."""

    do: Literal["take-off"]
    list: NameText
    off: Point

    def changes(self, network: Network) -> Changes:
        return [_removing("placements", _placed(network, self.list, self.off))]

    def called(self, _network: Network) -> str:
        return self.label or f"take {self.list} off {self.off.device} {self.off.at}"


class NewList(Intent):
    """An empty list; without a name it gets a free one. A frame list has no family."""

    do: Literal["new-list"]
    name: NameText = ""
    family: Family | None = None
    kind: ListKind

    def changes(self, network: Network) -> Changes:
        name = self._name(network)
        if any(each.name == name for each in network.lists):
            raise ChangeError(f"there is a list named {name} already: choose another name")
        return [Change(collection="lists", key=name, item=self._empty(name))]

    def _empty(self, name: str) -> dict[str, Any]:
        family = {} if self.family is None else {"family": self.family.value}
        return {"name": name, **family, "kind": self.kind.value}

    def _name(self, network: Network) -> str:
        taken = {each.name for each in network.lists}
        numbers = count(len(taken) + 1)
        return self.name or next(
            name for name in (f"list{number}" for number in numbers) if name not in taken
        )

    def called(self, network: Network) -> str:
        return self.label or f"new list {self._name(network)}"


class NewTests(Intent):
    """Test flows with their expectations, under ids that are free."""

    do: Literal["new-tests"]
    flows: Annotated[list[LineText], Field(min_length=1, max_length=10_000)]
    group: Annotated[str, Field(max_length=80)] = ""

    def changes(self, network: Network) -> Changes:
        ids = free_ids("tests", {test.id for test in network.tests}, len(network.tests))
        items = ({"id": next(ids), "flow": flow, "group": self.group} for flow in self.flows)
        return [Change(collection="tests", key=item["id"], item=item) for item in items]

    def called(self, _network: Network) -> str:
        return self.label or f"test {self.flows[0]}"


class Require(Intent):
    """A requirement, under an id that is free."""

    do: Literal["require"]
    statement: LineText
    group: Annotated[str, Field(max_length=80)] = ""

    def changes(self, network: Network) -> Changes:
        taken = {each.id for each in network.requirements}
        key = next(free_ids("requirements", taken, len(network.requirements)))
        item = {"id": key, "statement": self.statement, "group": self.group}
        return [Change(collection="requirements", key=key, item=item)]

    def called(self, _network: Network) -> str:
        return self.label or f"require {self.statement}"


class Accept(Intent):
    """A finding is as it should be; without a reason, it is not any more."""

    do: Literal["accept"]
    finding: Annotated[str, Field(max_length=200)]
    kind: LineText
    evidence: Annotated[str, Field(max_length=16)]
    reason: Annotated[str, Field(max_length=500)] | None = None

    def changes(self, network: Network) -> Changes:
        if self.reason is None:
            return [_removing("accepted", _item(network, "accepted", self.finding))]
        accepted = Acceptance.model_construct(
            finding=self.finding, evidence=self.evidence, reason=self.reason
        )
        return [putting("accepted", accepted)]

    def called(self, _network: Network) -> str:
        return self.label or f"{'no longer accept' if self.reason is None else 'accept'} {self.kind}"


class Arrange(Intent):
    """Plates lie elsewhere on the map; one that was moved by hand names the edit, else the map was tidied."""

    do: Literal["arrange"]
    positions: Annotated[list[Position], Field(min_length=1, max_length=MOST_DEVICES)]
    moved: LineText | None = None

    def changes(self, network: Network) -> Changes:  # noqa: ARG002
        return [putting("positions", position) for position in self.positions]

    def called(self, _network: Network) -> str:
        return self.label or (f"move {self.moved} on the map" if self.moved else "lay out the map")


class Together(Intent):
    """Several in one edit, each in the draft as those before left it."""

    do: Literal["together"]
    intents: Annotated[list["AnyIntent"], Field(min_length=1, max_length=100)]

    def changes(self, network: Network) -> Changes:
        made: Changes = []
        for intent in self.intents:
            own = intent.changes(network)
            require_items(own)
            network = apply(network, own)
            made += own
        return made

    def called(self, network: Network) -> str:
        return self.label or self.intents[0].called(network)


AnyIntent = Annotated[
    MakeChanges
    | Put
    | Remove
    | JoinDevices
    | Duplicate
    | PlaceList
    | TakeOff
    | NewList
    | NewTests
    | Require
    | Accept
    | Arrange
    | Together,
    Field(discriminator="do"),
]


def _item(network: Network, collection: Collection, key: str) -> Item:
    items: Sequence[Item] = getattr(network, collection)
    item = next((each for each in items if key_of(collection, each) == key), None)
    if item is None:
        raise ChangeError(f"there is no “{key}” in {collection} any more")
    return item


def _removing(collection: Collection, item: Item) -> Change:
    return Change(collection=collection, key=key_of(collection, item))


def _stands_at(placed: Placement, point: Point) -> bool:
    return (placed.device, placed.at, placed.direction) == (point.device, point.at, point.direction)


def _placed(network: Network, name: str, point: Point) -> Placement:
    for placed in network.placements:
        if placed.list == name and _stands_at(placed, point):
            return placed
    raise ChangeError(f"{name} does not stand {point.point} any more")
