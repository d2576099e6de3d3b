"""Five machines in namespaces, collected as anybody would, and conversations between them for real.

Run as a process that is first in namespaces of its own; prints what was collected and what was seen as JSON.
"""

import errno
import json
import os
import socket
import struct
import subprocess
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from greyheron.formats.machines import collecting_script
from greyheron.rehearsal.kernel import Namespace
from greyheron.rehearsal.stage import own_files

NAMES = ("desk", "till", "gate", "shed", "ledger", "air")
PATIENCE = 0.6
SETUP = """
link desk eth0 air a1
link till eth0 air a2
link gate lan air a3
link gate up shed down
link shed lab ledger eth0
on air ip link add br0 type bridge mcast_snooping 0
on air ip link set br0 up
on air ip link set a1 master br0
on air ip link set a2 master br0
on air ip link set a3 master br0
address desk eth0 172.20.16.10/24 2001:db8:16::10/64
address till eth0 172.20.16.11/24 2001:db8:16::11/64
address gate lan 172.20.16.1/24 2001:db8:16::1/64
address gate up 172.20.0.1/30 2001:db8:f0::1/64
address shed down 172.20.0.2/30 2001:db8:f0::2/64
address shed lab 172.20.40.1/24 2001:db8:40::1/64
address ledger eth0 172.20.40.10/24 2001:db8:40::10/64
on desk ip route add default via 172.20.16.1
on desk ip route add default via 2001:db8:16::1
on till ip route add default via 172.20.16.1
on till ip route add default via 2001:db8:16::1
on gate ip route add 172.20.40.0/24 via 172.20.0.2
on gate ip route add 2001:db8:40::/64 via 2001:db8:f0::2
on shed ip route add 172.20.16.0/24 via 172.20.0.1
on shed ip route add 2001:db8:16::/64 via 2001:db8:f0::1
on ledger ip route add default via 172.20.40.1
on ledger ip route add default via 2001:db8:40::1
"""
FILTERS = {
    # Follows sessions; jumps, a map, a set, and where packets leave.
    "gate": """
table inet gate {
  set clerks { type ipv4_addr; flags interval; elements = { 172.20.16.10, 172.20.16.64/26 } }
  chain fromlan {
    tcp dport vmap { 23 : drop, 443 : accept }
    ip saddr @clerks tcp dport { 22, 8000-8010 } counter accept
    udp dport 53 ip6 daddr 2001:db8:40::10 accept
    meta l4proto { icmp, icmpv6 } accept
  }
  chain forward {
    type filter hook forward priority 0; policy drop;
    ct state established,related accept
    ct state invalid drop
    iifname "lan" oifname "up" jump fromlan
    iifname "up" oifname "lan" ip saddr 172.20.40.10 tcp dport 80 accept
  }
  chain input {
    type filter hook input priority 0; policy accept;
    ct state vmap { established : accept, related : accept, invalid : drop }
    iifname "lan" ip saddr != 172.20.16.10 tcp dport 22 reject with icmpx admin-prohibited
  }
}""",
    # Follows nothing, and answers what it rejects.
    "shed": """
table ip shed {
  chain forward {
    type filter hook forward priority filter; policy accept;
    ip daddr 172.20.40.10 tcp dport 8001-8003 reject with icmp admin-prohibited
    oifname "lab" udp dport 69 drop
    tcp flags syn / syn,ack,rst,fin ip saddr 172.20.40.0/24 tcp dport 8080 drop
  }
  chain input {
    type filter hook input priority 0; policy accept;
    ip saddr 172.20.16.0/24 tcp dport 22 drop
  }
}""",
    "ledger": """
table inet ledger {
  chain input {
    type filter hook input priority 0; policy drop;
    iifname "lo" accept
    ct state established,related accept
    meta l4proto ipv6-icmp accept
    ip protocol icmp icmp type echo-request accept
    tcp dport { 22, 443, 8000-8010 } counter log prefix "in " accept
    udp dport { 53, 69 } accept
  }
  chain output {
    type filter hook output priority 0; policy accept;
    ct state established,related accept
    tcp dport 8081 drop
  }
}""",
}
LISTENING = {
    "ledger": (("tcp", 22), ("tcp", 443), ("tcp", 8000), ("tcp", 8002), ("udp", 53), ("udp", 69)),
    "gate": (("tcp", 22),),
    "shed": (("tcp", 22),),
    "till": (("tcp", 80), ("tcp", 8080), ("tcp", 8081)),
    "desk": (("tcp", 80),),
}
ADDRESSES = {
    "desk": ("172.20.16.10", "2001:db8:16::10"),
    "till": ("172.20.16.11", "2001:db8:16::11"),
    "gate": ("172.20.16.1", "2001:db8:16::1"),
    "shed": ("172.20.0.2", "2001:db8:f0::2"),
    "ledger": ("172.20.40.10", "2001:db8:40::10"),
}
CONVERSATIONS = [
    *((who, "ledger", f"tcp/{port}") for who in ("desk", "till") for port in (22, 23, 443, 8000, 8002, 8005)),
    *((who, "ledger", f"udp/{port}") for who in ("desk", "till") for port in (53, 69)),
    *((who, whom, "tcp/22") for who in ("desk", "till", "ledger") for whom in ("gate", "shed")),
    *(("ledger", whom, f"tcp/{port}") for whom in ("desk", "till") for port in (80, 8080, 8081)),
    *(("gate", "ledger", f"tcp/{port}") for port in (22, 23, 8000)),
    ("shed", "till", "tcp/80"),
    *((who, "ledger", "ping") for who in ("desk", "gate")),
    ("till", "desk", "tcp/80"),
    ("till", "desk", "tcp/81"),
    ("desk", "shed", "ping"),
]


def main() -> None:
    own_files()
    spaces = {name: _space(name) for name in NAMES}
    for line in SETUP.strip().splitlines():
        _do(spaces, line.split())
    for name in ("gate", "shed"):
        _write(spaces[name], "net/ipv4/ip_forward", "net/ipv6/conf/all/forwarding")
    for name, rules in FILTERS.items():
        _run(spaces[name], "nft", "-f", "-", given=rules)
    for name, ports in LISTENING.items():
        for protocol, port in ports:
            _listen(spaces[name], protocol, port)
    files = {f"{name}.json": _collected(spaces[name], name) for name in NAMES if name != "air"}
    seen = []
    for who, whom, service in CONVERSATIONS:
        for number, family in enumerate(("ipv4", "ipv6")):
            flow = f"{who}:{ADDRESSES[who][number]} → {whom}:{ADDRESSES[whom][number]} {service}"
            seen.append((flow, _try(spaces[who], ADDRESSES[who][number], ADDRESSES[whom][number], service)))
            del family
    print(json.dumps({"files": files, "seen": seen}))


def _space(name: str) -> Namespace:
    subprocess.run(["ip", "netns", "add", name], check=True)
    space = Namespace(name, os.open(f"/run/netns/{name}", os.O_RDONLY))
    _run(space, "ip", "link", "set", "lo", "up")
    with space.entered():
        for where in ("all", "default"):
            Path(f"/proc/sys/net/ipv6/conf/{where}/accept_dad").write_text("0")
        Path("/proc/sys/net/ipv4/ping_group_range").write_text("0 0")
        for each in ("net/ipv4/icmp_ratelimit", "net/ipv6/icmp/ratelimit"):
            Path("/proc/sys", each).write_text("0")
    return space


def _do(spaces: dict[str, Namespace], words: list[str]) -> None:
    verb, *rest = words
    if verb == "link":
        one, port, other, far = rest
        _run(spaces[one], "ip", *f"link add name {port} type veth peer name {far} netns {other}".split())
        for name, each in ((one, port), (other, far)):
            _run(spaces[name], "ip", "link", "set", "dev", each, "up")
    elif verb == "address":
        for address in rest[2:]:
            nodad = ["nodad"] if ":" in address else []
            _run(spaces[rest[0]], "ip", "addr", "add", address, "dev", rest[1], *nodad)
    else:
        _run(spaces[rest[0]], *rest[1:])


def _run(space: Namespace, *command: str, given: str = "") -> str:
    with space.entered():
        return subprocess.run(command, input=given, capture_output=True, text=True, check=True).stdout


def _write(space: Namespace, *settings: str) -> None:
    with space.entered():
        for each in settings:
            Path("/proc/sys", each).write_text("1")


def _collected(space: Namespace, name: str) -> str:
    """As the script prints it; all of them share one host name here."""
    found = json.loads(_run(space, "sh", given=collecting_script()))
    return json.dumps(found | {"machine": name}, separators=(",", ":"))


def _listen(space: Namespace, protocol: str, port: int) -> None:
    for family, whole in ((socket.AF_INET, "0.0.0.0"), (socket.AF_INET6, "::")):
        with space.entered():
            it = socket.socket(family, socket.SOCK_STREAM if protocol == "tcp" else socket.SOCK_DGRAM)
        if family == socket.AF_INET6:
            it.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_V6ONLY, 1)
        it.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        it.bind((whole, port))
        if protocol == "tcp":
            it.listen()
        answer: Callable[[socket.socket], None] = _accept if protocol == "tcp" else _echo
        threading.Thread(target=answer, args=(it,), daemon=True).start()


def _accept(it: socket.socket) -> None:
    while True:
        it.accept()[0].close()


def _echo(it: socket.socket) -> None:
    while True:
        said, whom = it.recvfrom(2048)
        it.sendto(said, whom)


@contextmanager
def _socket(space: Namespace, address: str, kind: int, protocol: int = 0) -> Iterator[socket.socket]:
    family = socket.AF_INET6 if ":" in address else socket.AF_INET
    with space.entered():
        it = socket.socket(family, kind, protocol)
    it.settimeout(PATIENCE)
    it.bind((address, 0))
    with it:
        yield it


def _try(space: Namespace, source: str, destination: str, service: str) -> str:
    """What the sender sees: reply, refused, prohibited, nothing."""
    protocol, _, port = service.partition("/")
    try:
        if protocol == "ping":
            six = ":" in destination
            with _socket(space, source, socket.SOCK_DGRAM, 58 if six else 1) as it:
                it.connect((destination, 0))
                it.send(struct.pack("!BBHHH", 128 if six else 8, 0, 0, 0, 1) + b"heron")
                it.recv(2048)
            return "reply"
        with _socket(space, source, socket.SOCK_STREAM if protocol == "tcp" else socket.SOCK_DGRAM) as it:
            it.connect((destination, int(port)))
            if protocol == "udp":
                it.send(b"heron")
                it.recv(2048)
            return "reply"
    except TimeoutError:
        return "nothing"
    except OSError as error:
        return {errno.ECONNREFUSED: "refused", errno.EHOSTUNREACH: "prohibited", errno.EACCES: "prohibited"}[
            error.errno or 0
        ]


if __name__ == "__main__":
    main()
