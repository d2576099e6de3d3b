"""How much shorter tidied lists are, how long that takes, and whether a decision-diagram library agrees.

python bench/tidying.py [LISTS]: so many random lists, then long generated ones.
"""

import sys
import time

from tests.random_networks import random_network

from bench.diagrams import Diagrams, sayable
from greyheron.analysis.entries.tidy import tidy
from greyheron.core.lists.resolved import Names, resolve
from greyheron.demo.generator import Plan, generate
from greyheron.model.document import AccessList, Network
from greyheron.model.values import Family

SIZES = (1000, 3000, 10_000)
JUDGED = 3000
"""Longer lists take a decision-diagram library too long."""


def agreed(diagrams: Diagrams, access_list: AccessList, after: AccessList, network: Network) -> bool:
    """Whether both permit the same TCP headers, as first packets and as answers."""
    names = Names(network)
    one, other = resolve(access_list, names), resolve(after, names)
    return all(
        diagrams.permits(one, swapped=False, answers=answers)
        == diagrams.permits(other, swapped=False, answers=answers)
        for answers in (False, True)
    )


def random_lists(wanted: int) -> None:
    """Random IPv4 lists without periods, of networks that know nothing of this."""
    diagrams = Diagrams()
    tried, shorter, judged, unlike, before, now, seed = 0, 0, 0, 0, 0, 0, 800_000
    while tried < wanted:
        network = random_network(seed)
        seed += 1
        for each in network.lists:
            if each.family is not Family.IPV4 or each.body.periods:
                continue
            found = tidy(each, network)
            tried += 1
            shorter += bool(found.steps)
            before, now = before + len(each.body.entries), now + len(found.body.entries)
            after = each.model_copy(update={"body": found.body})
            if sayable(each.body.entries):
                judged += 1
                unlike += not agreed(diagrams, each, after, network)
    print(f"{tried} random lists: {shorter} shorter, {before} entries now {now}, {unlike} of {judged} unlike")


def long_lists() -> None:
    for size in SIZES:
        network = generate(Plan(routers=2, lists=1, entries=size, seed=2))
        (each,) = network.lists
        began = time.perf_counter()
        found = tidy(each, network)
        seconds = time.perf_counter() - began
        after = each.model_copy(update={"body": found.body})
        said = ""
        if size <= JUDGED:
            said = ", alike" if agreed(Diagrams(), each, after, network) else ", UNLIKE"
        print(f"{size} entries: {len(found.body.entries)} after {seconds:.1f} s{said}", flush=True)


if __name__ == "__main__":
    random_lists(int(sys.argv[1]) if len(sys.argv) > 1 else 1000)
    long_lists()
