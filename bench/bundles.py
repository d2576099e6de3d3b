"""What it costs to bring a network in and to take it out: machines as they are, and YANG instance data.

python bench/bundles.py [MACHINES [RULES [BANNED]]]
"""

import json
import resource
import sys
import time
from collections.abc import Callable, Mapping
from functools import partial
from random import Random
from typing import Any, TypeVar

from greyheron.analysis.findings.finder import find_in_time
from greyheron.analysis.findings.finding_cache import KeptFindings
from greyheron.core.bulk.engines import engines
from greyheron.core.timeline import Timeline
from greyheron.formats.bundle import Bundle
from greyheron.formats.known import bring
from greyheron.formats.yang import Yang, YangXml
from greyheron.model.document import Network

T = TypeVar("T")
_TABLE = {"family": "inet", "table": "gate"}


def machine(number: int, rules: int, banned: int = 0) -> dict[str, Any]:
    """A router between a segment of its own and one that all of them share.

    banned:  how many addresses are in a set that its first rule drops
    """
    chance = Random(number)
    own, up = f"172.21.{number // 64}.{number % 64 * 4 + 1}", f"172.20.{number // 250}.{number % 250 + 1}"
    addresses = [
        {"ifname": name, "flags": ["UP", "LOWER_UP"], "addr_info": [{"local": address, "prefixlen": length}]}
        for name, address, length in (("lan", own, 30), ("up", up, 16))
    ]
    chain = _TABLE | {
        "name": "forward",
        "handle": 1,
        "type": "filter",
        "hook": "forward",
        "prio": 0,
        "policy": "drop",
    }
    written: list[dict[str, Any]] = [
        {"table": {"family": "inet", "name": "gate", "handle": 1}},
        {"chain": chain},
    ]
    if banned:
        members = [f"172.23.{each // 250}.{each % 250}" for each in chance.sample(range(60_000), banned)]
        written.append({"set": _TABLE | {"name": "bans", "handle": 1, "type": "ipv4_addr", "elem": members}})
        named = {"op": "==", "left": {"payload": {"protocol": "ip", "field": "saddr"}}, "right": "@bans"}
        written.append(
            {"rule": _TABLE | {"chain": "forward", "handle": 2, "expr": [{"match": named}, {"drop": None}]}}
        )
    for handle in range(rules):
        block = {"prefix": {"addr": f"172.22.{chance.randrange(256)}.0", "len": 24}}
        expressions = [
            {
                "match": {
                    "op": "==",
                    "left": {"payload": {"protocol": "ip", "field": "saddr"}},
                    "right": block,
                }
            },
            {
                "match": {
                    "op": "==",
                    "left": {"payload": {"protocol": "tcp", "field": "dport"}},
                    "right": chance.choice((22, 80, 443, 8080)),
                }
            },
            {chance.choice(("accept", "drop")): None},
        ]
        written.append({"rule": _TABLE | {"chain": "forward", "handle": handle + 3, "expr": expressions}})
    return {
        "format": "grey-heron/machine-1",
        "machine": f"gate-{number}",
        "forwards4": "1",
        "forwards6": "0",
        "address": addresses,
        "route": [],
        "route6": [],
        "vlan": [],
        "ruleset": {"nftables": written},
        "listening": [],
    }


def timed(what: str, act: Callable[[], T]) -> T:
    began = time.process_time()
    found = act()
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024
    print(f"{what}: {time.process_time() - began:.1f} s of processor, {memory} MiB at most so far")
    return found


def _read(files: Mapping[str, bytes]) -> Network:
    return bring(Bundle("bench", dict(files)))[1].network


def main() -> None:
    given = sys.argv[1:] + ["500", "100", "0"][len(sys.argv) - 1 :]
    machines, rules, banned = map(int, given)
    files = {
        f"{n}.json": json.dumps(machine(n, rules, banned), separators=(",", ":")).encode()
        for n in range(machines)
    }
    print(f"{machines} machines with {rules} rules each, {sum(map(len, files.values())) / 1e6:.0f} MB")
    network = timed("read as machines", partial(_read, files))
    print(f"{sum(len(each.body.entries) for each in network.lists)} entries")
    if banned:
        find = partial(find_in_time, Timeline.build(network), engines(), KeptFindings())
        timed(f"findings, with {banned} banned", find)
    for form in (Yang(), YangXml()):
        taken = timed(f"written as {form.title}", partial(form.write, network))
        timed("read again", partial(_read, taken.files))


if __name__ == "__main__":
    main()
