"""Whether a decision-diagram library finds the same packets decided otherwise, and how long both take.

python bench/differing.py [PAIRS]: so many random lists, each beside itself with some entries otherwise.
"""

import sys
import time
from random import Random

from msgspec.structs import replace
from tests.random_networks import random_network

from bench.diagrams import Diagrams, sayable
from greyheron.analysis.entries.difference import PacketBox, changed_packets
from greyheron.core.lists.resolved import Names, ResolvedList, resolve
from greyheron.demo.generator import Plan, generate
from greyheron.model.document import AccessList
from greyheron.model.entry import Entry
from greyheron.model.header import TcpFlags
from greyheron.model.names import TCP
from greyheron.model.values import Family

FIRST_SEED = 300_000
SIZES = (100, 1000, 10_000)
MOST_EDITS = 3


def edited(chance: Random, access_list: AccessList, others: list[Entry]) -> AccessList:
    """A list with some entries out, in another order, or new."""
    entries = list(access_list.body.entries)
    for _ in range(chance.randrange(1, MOST_EDITS + 1)):
        draw = chance.random()
        if draw < 0.35 and entries:
            entries.pop(chance.randrange(len(entries)))
        elif draw < 0.6 and len(entries) > 1:
            at = chance.randrange(len(entries) - 1)
            entries[at : at + 2] = entries[at + 1], entries[at]
        else:
            entries.insert(chance.randrange(len(entries) + 1), chance.choice(others))
    numbered = [replace(entry, number=10 * number) for number, entry in enumerate(entries, 1)]
    return access_list.model_copy(update={"body": access_list.body.with_entries(numbered)})


def agreed(
    diagrams: Diagrams, before: ResolvedList, after: ResolvedList, boxes: tuple[PacketBox, ...]
) -> bool:
    """Whether the boxes are exactly the TCP headers that differ, as first packets and as answers."""
    for answers, flags in ((False, TcpFlags.SYN), (True, TcpFlags.ACK)):
        old, new = (diagrams.permits(each, swapped=False, answers=answers) for each in (before, after))
        for permitted, differing in ((True, new & ~old), (False, old & ~new)):
            own = [
                each
                for each in boxes
                if each.permitted is permitted
                and any(kind.protocol == TCP and kind.flags == flags for kind in each.examples)
            ]
            if diagrams.boxes(own) != differing:
                return False
    return True


def random_pairs(wanted: int) -> None:
    """Lists that say nothing of flags, code points and fragments: the diagrams have no bits for those."""
    diagrams = Diagrams()
    tried, unlike, found, ours, theirs, seed = 0, 0, 0, 0.0, 0.0, FIRST_SEED
    while tried < wanted:
        network, chance, seed = random_network(seed), Random(seed), seed + 1
        names = Names(network)
        lists = [each for each in network.lists if each.family is Family.IPV4 and not each.body.periods]
        entries = [entry for each in lists for entry in each.body.entries]
        if not entries or not sayable(entries):
            continue
        for each in lists:
            before, after = resolve(each, names), resolve(edited(chance, each, entries), names)
            began = time.perf_counter()
            boxes = changed_packets(before, after)
            between = time.perf_counter()
            unlike += not agreed(diagrams, before, after, boxes)
            ours, theirs = ours + between - began, theirs + time.perf_counter() - between
            tried, found = tried + 1, found + len(boxes)
    print(
        f"{tried} pairs: {found} boxes in {ours:.2f} s, {unlike} unlike; "
        f"the diagrams, with the boxes as diagrams, {theirs:.2f} s"
    )


def long_lists() -> None:
    """One entry of a long list gone."""
    for entries in SIZES:
        network = generate(Plan(routers=2, lists=1, entries=entries, seed=2))
        (each,) = network.lists
        names, own = Names(network), list(each.body.entries)
        middle = len(own) // 2
        shorter = each.model_copy(
            update={"body": each.body.with_entries([*own[:middle], *own[middle + 1 :]])}
        )
        before, after = resolve(each, names), resolve(shorter, names)
        began = time.perf_counter()
        boxes = changed_packets(before, after)
        milliseconds = 1000 * (time.perf_counter() - began)
        print(f"{entries} entries, one gone: {len(boxes)} boxes in {milliseconds:.0f} ms")


if __name__ == "__main__":
    random_pairs(int(sys.argv[1]) if len(sys.argv) > 1 else 1000)
    long_lists()
