"""What a rehearsal costs and how it grows: `python bench/rehearsal.py [ROUTERS …]`, docs/performance.md.

Every router has a site with two hosts, every second one a list of 200 entries.
"""

import random
import sys
from typing import Any

from rich.console import Console
from rich.table import Table

from greyheron.demo.generator import Plan, generate
from greyheron.formats.workspace import write_workspace
from greyheron.model.document import Network
from greyheron.model.read import read_network
from greyheron.rehearsal.runner import run_rehearsal

SEED = 8470
ENTRIES = 200
FLOWS_FOR_EACH = 20
ASKED = ("web", "ssh", "tcp/25", "udp/53", "udp/161", "ping")


def network_of(routers: int) -> Network:
    """`routers` of them and two hosts at each, with 20 test flows for each router."""
    made = generate(Plan(routers, routers // 2, ENTRIES, SEED))
    document: dict[str, Any] = made.model_dump(mode="json", exclude_unset=True)
    hosts = [each for each in document["devices"] if each["kind"] == "host"]
    for host in hosts:
        (held,) = host["interfaces"]
        second = [address.replace(".10/", ".11/").replace("::10/", "::11/") for address in held["addresses"]]
        document["devices"].append(
            {**host, "name": f"{host['name']}b", "interfaces": [{**held, "addresses": second}]}
        )
        gate, other = next(
            each["ends"] for each in document["links"] if f"{host['name']}:eth0" in each["ends"]
        )
        gate = gate if other.startswith("h") else other
        document["links"] = [each for each in document["links"] if gate not in each["ends"]]
        switch = f"s{host['name'][1:]}"
        document["devices"].append(
            {"name": switch, "kind": "switch", "interfaces": [{"name": f"p{port}"} for port in range(3)]}
        )
        ends = (gate, f"{host['name']}:eth0", f"{host['name']}b:eth0")
        document["links"] += [{"ends": [f"{switch}:p{port}", end]} for port, end in enumerate(ends)]
    chance = random.Random(SEED)
    names = [each["name"] for each in document["devices"] if each["kind"] == "host"]
    document["tests"] = [
        {"id": f"t{number}", "flow": f"{one} → {other} {chance.choice(ASKED)} pass"}
        for number, (one, other) in enumerate(
            chance.sample(names, 2) for _ in range(FLOWS_FOR_EACH * routers)
        )
    ]
    return read_network(document)


def main() -> None:
    sizes = [int(each) for each in sys.argv[1:]] or [12, 25, 50]
    table = Table("routers", "hosts", "entries", "document kB", "flows", "built s", "sent s", "differ")
    for routers in sizes:
        network = network_of(routers)
        report = run_rehearsal(network, lambda _stage, _done: None)
        table.add_row(
            str(routers),
            str(2 * routers),
            str(sum(len(each.body.entries) for each in network.lists)),
            str(len(write_workspace(network)) // 1000),
            str(len(report.tried)),
            f"{report.building_seconds:.1f}",
            f"{report.sending_seconds:.1f}",
            str(len(report.differing)),
        )
        for each in report.differing[:5]:
            print(each.flow, each.predicted, "|", each.seen)
        for line in report.left_out[:5]:
            print(line)
    Console(width=110).print(table)


if __name__ == "__main__":
    main()
