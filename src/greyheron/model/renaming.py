"""Another name for a device, list or set, wherever it is spoken of."""

from typing import Any, Literal

from msgspec.structs import replace

from greyheron.model.changes import Change, difference
from greyheron.model.document import AccessList, Link, Network, Requirement, TestFlow
from greyheron.model.entry import Entry, NamedAddresses, NamedPorts
from greyheron.model.flow import FlowEnd
from greyheron.model.problems import DocumentError, Problem
from greyheron.model.requirement import Term, TermKind

MOST_LETTERS = 63
"""Of a name; see `document.Name`."""
NamedCollection = Literal["devices", "lists", "address_sets", "port_sets", "periods"]


def renaming(network: Network, collection: NamedCollection, old: str, new: str) -> list[Change]:
    """The changes by which an item is called `new`, and everything that speaks of it says so.

    Raises DocumentError where there is no such item, or another one of that name.
    """
    names = [item.name for item in getattr(network, collection)]
    if old not in names:
        raise DocumentError([Problem("name", f"there is no “{old}” any more: look at the network again")])
    if len(new) > MOST_LETTERS:
        raise DocumentError(
            [Problem("name", f"it has {len(new)} letters: at most {MOST_LETTERS} are allowed")]
        )
    if new in names and new != old:
        raise DocumentError([Problem("name", f"there is a {new} already: choose another name")])
    return difference(network, _Renamer(network, collection, old, new).network())


class _Renamer:
    """One name put in place of another in all of a document."""

    def __init__(self, network: Network, collection: NamedCollection, old: str, new: str) -> None:
        self._network, self._collection, self._old, self._new = network, collection, old, new
        sets = {group.name for group in network.address_sets}
        # `@name` and a requirement's name are a set's first, and else a device's.
        self._in_entries = collection == "address_sets" or (collection == "devices" and old not in sets)

    def network(self) -> Network:
        network = self._network
        own = tuple(self._said(item, "name") for item in getattr(network, self._collection))
        found = network.model_copy(update={self._collection: own})
        update: dict[str, Any] = {
            "lists": tuple(map(self._list, found.lists)),
            "requirements": tuple(map(self._requirement, found.requirements)),
        }
        if self._collection == "devices":
            update["links"] = tuple(map(self._link, found.links))
            update["tests"] = tuple(map(self._test, found.tests))
            for items in ("placements", "positions"):
                update[items] = tuple(self._said(each, "device") for each in getattr(found, items))
        if self._collection == "lists":
            update["placements"] = tuple(self._said(each, "list") for each in found.placements)
        return found.model_copy(update=update)

    def _word(self, name: str) -> str:
        return self._new if name == self._old else name

    def _said(self, item: Any, field: str) -> Any:
        """`item` with the other name in a field that holds the old one."""
        return item.model_copy(update={field: self._new}) if getattr(item, field) == self._old else item

    def _link(self, link: Link) -> Link:
        named = (end.split(":", 1) for end in link.ends)
        ends = tuple(f"{self._word(device)}:{at}" for device, at in named)
        return link if ends == link.ends else link.model_copy(update={"ends": ends})

    def _test(self, test: TestFlow) -> TestFlow:
        flow = test.flow.flow
        renamed = replace(flow, source=self._end(flow.source), destination=self._end(flow.destination))
        return test.model_copy(update={"flow": replace(test.flow, flow=renamed)})

    def _end(self, end: FlowEnd) -> FlowEnd:
        return end if end.device is None else replace(end, device=self._word(end.device))

    def _requirement(self, requirement: Requirement) -> Requirement:
        statement = requirement.statement
        renamed = replace(
            statement,
            sources=tuple(map(self._term, statement.sources)),
            destinations=tuple(map(self._term, statement.destinations)),
            services=tuple(map(self._service, statement.services)),
        )
        during = statement.during
        if self._collection == "periods" and during is not None:
            renamed = replace(renamed, during=replace(during, period=self._word(during.period)))
        return requirement.model_copy(update={"statement": renamed})

    def _term(self, term: Term) -> Term:
        if term.kind is TermKind.NAMED:
            return replace(term, name=self._word(term.name)) if self._in_entries else term
        # A segment may be named by its prefix, and is then no device's.
        of_device = term.kind in (TermKind.INTERFACE, TermKind.SEGMENT, TermKind.ZONE) and term.at
        if not of_device or self._collection != "devices":
            return term
        return replace(term, name=self._word(term.name))

    def _service(self, word: str) -> str:
        head, slash, ports = word.partition("/")
        if self._collection != "port_sets" or not slash:
            return word
        parts = (f"@{self._word(part[1:])}" if part.startswith("@") else part for part in ports.split(","))
        return f"{head}/{','.join(parts)}"

    def _list(self, access_list: AccessList) -> AccessList:
        entries = tuple(map(self._entry, access_list.body.entries))
        if all(new is old for new, old in zip(entries, access_list.body.entries, strict=True)):
            return access_list
        return access_list.model_copy(update={"body": access_list.body.with_entries(entries)})

    def _entry(self, entry: Entry) -> Entry:
        address, ports = NamedAddresses(self._old), NamedPorts(self._old)
        if self._in_entries and address in (entry.source, entry.destination):
            other = NamedAddresses(self._new)
            source, goal = (other if term == address else term for term in (entry.source, entry.destination))
            return replace(entry, source=source, destination=goal)
        if self._collection == "periods" and entry.during is not None and entry.during.period == self._old:
            return replace(entry, during=replace(entry.during, period=self._new))
        if self._collection == "port_sets" and ports in (*entry.source_ports, *entry.destination_ports):
            named = NamedPorts(self._new)
            from_, to = (
                tuple(named if term == ports else term for term in terms)
                for terms in (entry.source_ports, entry.destination_ports)
            )
            return replace(entry, source_ports=from_, destination_ports=to)
        return entry
