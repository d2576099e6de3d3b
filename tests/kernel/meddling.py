"""What is changed in a built network behind the rehearsal's back, ten kinds, and a process that does so."""

import json
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

from msgspec import to_builtins

from greyheron.formats.workspace import read_workspace
from greyheron.rehearsal.asking import Selection, asked_of
from greyheron.rehearsal.kernel import Built
from greyheron.rehearsal.rehearse import rehearse
from greyheron.rehearsal.report import report_of
from greyheron.rehearsal.stage import own_files

SEES, WAY, ENTRY = "what the sender sees", "the way taken", "the deciding entry"
BLOCKED, OPEN = "left → right tcp/80", "left → right tcp/443"


def run(built: Built, device: str, *command: str) -> None:
    with built.namespaces[device].entered():
        subprocess.run(command, check=True)


def port(built: Built, device: str, interface: str) -> str:
    name = built.plan.places[device].port(interface)
    assert name is not None
    return name


def _handle(built: Built, chain_of_text: str) -> tuple[str, str]:
    """The chain and handle of the first rule of r2 in which a text stands."""
    with built.namespaces["r2"].entered():
        done = subprocess.run(
            ["nft", "-a", "list", "table", "inet", "heron"], capture_output=True, text=True, check=True
        )
    chain = ""
    for line in done.stdout.splitlines():
        if line.strip().startswith("chain "):
            chain = line.split()[1]
        elif chain_of_text in line:
            return chain, line.rsplit(" ", 1)[1]
    raise AssertionError(done.stdout)


def entry_dropped(built: Built) -> None:
    chain, handle = _handle(built, "dport 80")
    run(built, "r2", "nft", "delete", "rule", "inet", "heron", chain, "handle", handle)


def list_gone(built: Built) -> None:
    run(built, "r2", "nft", "flush", "chain", "inet", "heron", "arrive")


def list_elsewhere(built: Built) -> None:
    """At the port of the other side: it never meets what comes from here."""
    chain, _ = _handle(built, "dport 80")
    list_gone(built)
    run(
        built,
        "r2",
        "nft",
        "add",
        "rule",
        "inet",
        "heron",
        "arrive",
        "iifname",
        port(built, "r2", "wan1"),
        "jump",
        chain,
    )


def another_denied(built: Built) -> None:
    chain, _ = _handle(built, "dport 80")
    run(built, "r2", "nft", "insert", "rule", "inet", "heron", chain, "tcp", "dport", "443", "drop")


def silent(built: Built) -> None:
    chain, handle = _handle(built, "dport 80")
    run(built, "r2", "nft", "insert", "rule", "inet", "heron", chain, "tcp", "dport", "80", "drop")
    del handle


def forwarding_off(built: Built) -> None:
    with built.namespaces["r2"].entered():
        Path("/proc/sys/net/ipv4/ip_forward").write_text("0")


def route_gone(built: Built) -> None:
    run(built, "r2", "ip", "route", "flush", "172.20.3.0/24")


def route_elsewhere(built: Built) -> None:
    run(built, "r1", "ip", "route", "flush", "172.20.3.0/24")
    run(built, "r1", "ip", "route", "add", "172.20.3.0/24", "via", "172.20.0.10")


def wire_cut(built: Built) -> None:
    run(built, "r3", "ip", "link", "set", port(built, "r3", "eth0"), "down")


def address_gone(built: Built) -> None:
    run(built, "right", "ip", "address", "flush", "dev", port(built, "right", "eth0"))


MEDDLERS: dict[str, Callable[[Built], None]] = {
    each.__name__: each
    for each in (
        entry_dropped,
        list_gone,
        list_elsewhere,
        another_denied,
        silent,
        forwarding_off,
        route_gone,
        route_elsewhere,
        wire_cut,
        address_gone,
    )
}
KINDS: dict[str, tuple[str, str, set[str]]] = {
    "an entry is gone": ("entry_dropped", BLOCKED, {SEES, WAY, ENTRY}),
    "a list is gone": ("list_gone", BLOCKED, {SEES, WAY, ENTRY}),
    "a list on the wrong interface": ("list_elsewhere", BLOCKED, {SEES, WAY, ENTRY}),
    "something else is denied": ("another_denied", OPEN, {SEES, WAY}),
    "a denial that is not answered": ("silent", BLOCKED, {SEES, ENTRY}),
    "a router that does not forward": ("forwarding_off", OPEN, {SEES, WAY}),
    "a route is gone": ("route_gone", OPEN, {SEES, WAY}),
    "a route leads another way": ("route_elsewhere", OPEN, {WAY}),
    "a wire is cut": ("wire_cut", OPEN, {SEES, WAY}),
    "an address is nobody's": ("address_gone", OPEN, {SEES, WAY}),
}
"""For each kind what meddles, the flow that tells it, and in which facts it differs."""


def main() -> int:
    own_files()
    network = read_workspace(Path(sys.argv[2]).read_text())
    found = rehearse(
        network,
        asked_of(network, Selection.all_of(network)),
        lambda _stage, _done: None,
        MEDDLERS[sys.argv[1]],
    )
    print(json.dumps(to_builtins(report_of(found, network).tried)))
    return 0


if __name__ == "__main__":
    sys.exit(main())
