"""Frame lists as rules of the packet filter, before and behind all others (§14)."""

from collections.abc import Mapping

from greyheron.core.lists.resolved import FrameList
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.entry import FrameMatch
from greyheron.model.values import Action, Direction
from greyheron.rehearsal.expressions import matching_frame
from greyheron.rehearsal.rulebook import FRAMES, Counted, RuleBook


def add_frames(book: RuleBook) -> None:
    """The frame lists of a device, at the edge of each port."""
    lists = book.world.in_force.wires.lists
    added = False
    for name, ports in book.every.items():
        for direction, hook in ((Direction.IN, "ingress"), (Direction.OUT, "egress")):
            point = AttachmentPoint(book.device.name, name, direction)
            found = lists.get(point)
            if found is None or not ports:
                continue
            if not added:
                book.commands.append({"add": {"table": dict(FRAMES)}})
                added = True
            counters = {
                entry.number: book.counter(Counted(point, found.name, entry.number), FRAMES)
                for entry in found.entries
            }
            end = book.counter(Counted(point, found.name, None), FRAMES)
            for port in ports:
                _frame_chain(book, f"{hook}-{port}", hook, port, found, counters, end)


def _frame_chain(
    book: RuleBook, name: str, hook: str, port: str, found: FrameList, counters: Mapping[int, str], end: str
) -> None:
    chain = {
        "family": FRAMES["family"],
        "table": FRAMES["name"],
        "name": name,
        "type": "filter",
        "hook": hook,
        "dev": port,
        "prio": 0,
        "policy": "accept",
    }
    book.commands.append({"add": {"chain": chain}})
    for entry in found.entries:
        verdict = {"accept": None} if entry.action is Action.PERMIT else {"drop": None}
        conditions = matching_frame(entry.frame or FrameMatch())
        book.rule(name, *conditions, {"counter": counters[entry.number]}, verdict, table=FRAMES)
    book.rule(name, {"counter": end}, {"drop": None}, table=FRAMES)
