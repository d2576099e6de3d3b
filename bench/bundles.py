"""What it costs to bring a network in and to take it out: machines as they are, and YANG instance data.

python bench/bundles.py [MACHINES [RULES]]
"""

import json
import resource
import sys
import time
from collections.abc import Callable, Mapping
from functools import partial
from random import Random
from typing import Any, TypeVar

from greyheron.formats.bundle import Bundle
from greyheron.formats.known import bring
from greyheron.formats.yang import Yang, YangXml
from greyheron.model.document import Network

T = TypeVar("T")
_TABLE = {"family": "inet", "table": "gate"}


def machine(number: int, rules: int) -> dict[str, Any]:
    """A router between a segment of its own and one that all of them share."""
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
        written.append({"rule": _TABLE | {"chain": "forward", "handle": handle + 2, "expr": expressions}})
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
    machines, rules = (int(each) for each in (sys.argv[1:] + ["500", "100"][len(sys.argv) - 1 :]))
    files = {
        f"{n}.json": json.dumps(machine(n, rules), separators=(",", ":")).encode() for n in range(machines)
    }
    print(f"{machines} machines with {rules} rules each, {sum(map(len, files.values())) / 1e6:.0f} MB")
    network = timed("read as machines", partial(_read, files))
    print(f"{sum(len(each.body.entries) for each in network.lists)} entries")
    for form in (Yang(), YangXml()):
        taken = timed(f"written as {form.title}", partial(form.write, network))
        timed("read again", partial(_read, taken.files))


if __name__ == "__main__":
    main()
