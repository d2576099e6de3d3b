"""The smallest machine sets of kinds that are met everywhere: made in namespaces, collected, talked between.

Each is a client, a gate between two segments, and a server, with what the set is about. Run as a process
that is first in namespaces of its own; prints what was collected and seen of each set as JSON.
"""

import json
import os
import re
import subprocess
import sys
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

from greyheron.rehearsal.kernel import Namespace
from greyheron.rehearsal.stage import own_files
from tests.kernel.wires import attempt, carry_out, collected_in, listen, make_space, run_in, switch_on

BASE = """
link pc eth0 gate lan
link gate up server eth0
address pc eth0 172.20.1.10/24 2001:db8:1::10/64
address gate lan 172.20.1.1/24 2001:db8:1::1/64
address gate up 172.20.2.1/24 2001:db8:2::1/64
address server eth0 172.20.2.10/24 2001:db8:2::10/64
on pc ip route add default via 172.20.1.1
on pc ip route add default via 2001:db8:1::1
on server ip route add default via 172.20.2.1
on server ip route add default via 2001:db8:2::1
"""
FORWARDS = ("net/ipv4/ip_forward", "net/ipv6/conf/all/forwarding")
PORTS = (("tcp", 22), ("tcp", 80), ("tcp", 443), ("udp", 53))
TALK = (
    *(("pc", "server", service) for service in ("tcp/22", "tcp/80", "tcp/81", "tcp/443", "udp/53", "ping")),
    *(("server", "pc", service) for service in ("tcp/80", "udp/53", "ping")),
    *(("pc", "gate", service) for service in ("tcp/22", "tcp/80", "ping")),
    ("gate", "server", "tcp/80"),
)
NAMES = ("pc", "gate", "server")
ADDRESSES = {
    "gate-up": ("172.20.2.1", "2001:db8:2::1"),
    "pc": ("172.20.1.10", "2001:db8:1::10"),
    "gate": ("172.20.1.1", "2001:db8:1::1"),
    "server": ("172.20.2.10", "2001:db8:2::10"),
    "server-near": ("172.20.1.20", "2001:db8:1::20"),
    "gate-served": ("172.20.2.77", "2001:db8:2::77"),
}
SERVED = "gate-served"
"""No interface has these: they are spoken of by themselves."""
BRIDGED = """
on gate ip addr flush dev lan
on gate ip addr flush dev up
on gate ip link add br0 type bridge
on gate ip link set dev br0 up
on gate ip link set dev lan master br0
on gate ip link set dev up master br0
on gate ip addr add 172.20.1.1/24 dev br0
on gate ip addr add 2001:db8:1::1/64 dev br0 nodad
on server ip addr flush dev eth0
on server ip addr add 172.20.1.20/24 dev eth0
on server ip addr add 2001:db8:1::20/64 dev eth0 nodad"""
WEB_ALONE = """
table inet f { chain forward { type filter hook forward priority 0; policy drop;
  tcp dport 80 accept
  tcp sport 80 accept
} }"""
NEAR = tuple(
    ("pc", whom, service) for whom in ("server-near", "gate") for service in ("tcp/80", "tcp/22", "ping")
)
KNOWN = "ct state established,related accept"


@dataclass(frozen=True)
class Set:
    """A set of machines.

    filter:  the gate's rules;  more:  further lines of set-up;  forwards:  what is switched on at the gate
    talk:  who asks whom for what;  addresses:  by which addresses, where they are not the usual ones
    """

    name: str
    filter: str = ""
    more: str = ""
    forwards: tuple[str, ...] = FORWARDS
    talk: tuple[tuple[str, str, str], ...] = TALK


SETS = (
    Set("nothing filters"),
    Set(
        "bans before the main filter",
        f"""
table inet bans {{ chain early {{ type filter hook forward priority -10; policy accept;
  ip saddr 172.20.1.66 drop
  tcp dport 443 drop
}} }}
table inet main {{ chain forward {{ type filter hook forward priority 0; policy drop;
  {KNOWN}
  tcp dport {{ 22, 443 }} accept
  icmp type echo-request accept
}} }}""",
    ),
    Set(
        "two filters that permit",
        f"""
table inet one {{ chain forward {{ type filter hook forward priority -5; policy drop;
  {KNOWN}
  tcp dport {{ 22, 80, 443 }} accept
  udp dport 53 accept
}} }}
table inet two {{ chain forward {{ type filter hook forward priority 5; policy accept;
  tcp dport 80 drop
  ip saddr 172.20.1.0/24 udp dport 53 accept
  udp dport 53 drop
}} }}""",
    ),
    Set(
        "states of everything usual",
        """
table inet f { chain forward { type filter hook forward priority 0; policy drop;
  ct state { established, related, untracked } accept
  tcp dport 22 accept
} }""",
    ),
    Set(
        "established alone",
        """
table inet f { chain forward { type filter hook forward priority 0; policy drop;
  ct state established accept
  tcp dport { 22, 81 } accept
  udp dport 53 accept
} }""",
    ),
    Set(
        "related alone",
        """
table inet f { chain forward { type filter hook forward priority 0; policy drop;
  ct state related accept
  ip saddr 172.20.1.0/24 accept
  ip6 saddr 2001:db8:1::/64 accept
} }""",
    ),
    Set(
        "a default in a verdict map",
        """
table inet f { chain forward { type filter hook forward priority 0; policy accept;
  ct state established,related accept
  iifname "lan" tcp dport vmap { 22 : accept, 80 : accept, * : drop }
} }""",
    ),
    Set(
        "a dormant table",
        """
table inet off { flags dormant; chain forward { type filter hook forward priority 0; policy drop; } }""",
    ),
    Set("forwarding of IPv4 alone", forwards=FORWARDS[:1]),
    Set("forwarding of IPv6 alone", forwards=FORWARDS[1:]),
    Set(
        "a limit",
        """
table inet f { chain forward { type filter hook forward priority 0; policy drop;
  ct state established,related accept
  tcp dport 22 limit rate 100/second accept
  tcp dport 80 accept
} }""",
    ),
    Set(
        "clamping",
        """
table inet f { chain forward { type filter hook forward priority 0; policy drop;
  tcp flags syn tcp option maxseg size set rt mtu
  ct state established,related accept
  tcp dport 80 accept
} }""",
    ),
    Set(
        "a mark that nobody asks for",
        """
table inet f { chain early { type filter hook prerouting priority -150; policy accept; meta mark set 0x1
}
chain forward { type filter hook forward priority 0; policy drop;
  ct state established,related accept
  tcp dport 80 meta mark set 0x2 accept
} }""",
    ),
    Set(
        "empty base chains",
        """
table inet f { chain input { type filter hook input priority 0; policy accept; }
chain post { type filter hook postrouting priority 0; policy accept; }
chain forward { type filter hook forward priority 0; policy drop;
  ct state established,related accept
  tcp dport 80 accept
} }""",
    ),
    Set(
        "goto and return",
        """
table inet f {
  chain web { tcp dport 443 return; tcp dport 80 accept
}
  chain rest { tcp dport 22 accept; drop
}
  chain forward { type filter hook forward priority 0; policy drop;
    ct state established,related accept
    iifname "lan" jump web
    tcp dport 443 accept
    iifname "lan" goto rest
    ip protocol icmp accept
} }""",
    ),
    Set(
        "logging that goes on",
        """
table inet f { chain forward { type filter hook forward priority 0; policy drop;
  ct state established,related accept
  log prefix "seen "
  tcp dport 80 accept
} }""",
    ),
    Set(
        "a rule of a routing policy",
        more="""
on gate ip route add blackhole 172.20.2.0/24 table 100
on gate ip rule add from 172.20.1.10 table 100 priority 100""",
    ),
    Set(
        "a link of two addresses",
        """
table ip f { chain input { type filter hook input priority 0; policy accept; tcp dport 22 drop
}
chain forward { type filter hook forward priority 0; policy accept; tcp dport 80 drop
} }""",
        more="""
on gate ip addr del 172.20.2.1/24 dev up
on server ip addr del 172.20.2.10/24 dev eth0
on gate ip addr add 172.20.2.11/31 dev up
on server ip addr add 172.20.2.10/31 dev eth0
on server ip route add default via 172.20.2.11""",
    ),
    Set(
        "strict reverse paths",
        more="""
on gate sysctl -qw net.ipv4.conf.all.rp_filter=1
on gate ip route add blackhole 172.20.1.0/25""",
    ),
    Set(
        "a home router",
        """
table inet nat {
  chain pre { type nat hook prerouting priority dstnat; policy accept;
    iifname "up" tcp dport 8080 dnat ip to 172.20.1.10:80
  }
  chain post { type nat hook postrouting priority srcnat; policy accept;
    oifname "up" masquerade
  }
}
table inet f { chain forward { type filter hook forward priority 0; policy drop;
  ct state established,related accept
  iifname "lan" accept
  iifname "up" tcp dport 80 accept
} }""",
        talk=(
            *TALK,
            *(("server", "gate-up", service) for service in ("tcp/8080", "tcp/80", "tcp/81", "ping")),
            *(("pc", "gate-up", service) for service in ("tcp/8080", "tcp/80")),
        ),
    ),
    Set(
        "published wherever it comes from",
        """
table ip nat {
  chain pre { type nat hook prerouting priority -100; policy accept;
    ip daddr 172.20.2.1 tcp dport 8080 dnat to 172.20.1.10:80
    ip daddr 172.20.1.1 tcp dport 8443 dnat to 172.20.2.10:443
  }
}""",
        talk=(
            *TALK,
            *(("server", "gate-up", service) for service in ("tcp/8080", "tcp/80")),
            *(("pc", "gate", service) for service in ("tcp/8443", "tcp/443")),
        ),
    ),
    Set(
        "masquerade for several prefixes",
        """
table ip nat {
  chain post { type nat hook postrouting priority 100; policy accept;
    oifname "up" ip saddr { 172.20.1.0/28, 172.20.7.0/24 } masquerade
  }
}""",
    ),
    Set(
        "filters behind the rewriting of destinations",
        """
table ip nat {
  chain pre { type nat hook prerouting priority -100; policy accept;
    ip daddr 172.20.2.1 tcp dport 8080 dnat to 172.20.1.10:80
  }
  chain behind { type filter hook prerouting priority 0; policy accept;
    ip daddr 172.20.1.10 tcp dport 80 drop
    ip daddr 172.20.2.10 tcp dport 443 drop
  }
}""",
        talk=(*TALK, ("server", "gate-up", "tcp/8080"), ("server", "pc", "tcp/443")),
    ),
    Set(
        "rewriting that cannot be said",
        """
table ip nat {
  chain post { type nat hook postrouting priority 100; policy accept;
    oifname "up" tcp dport 80 snat to 172.20.2.99
  }
}""",
    ),
    Set(
        "denied as it leaves",
        """
table inet f { chain post { type filter hook postrouting priority 0; policy accept;
  oifname "up" tcp dport 443 drop
} }""",
    ),
    Set(
        "denied at the device itself",
        """
table netdev f { chain in { type filter hook ingress device "lan" priority 0; policy accept;
  tcp dport 443 drop
} }""",
    ),
    Set(
        "denied at ingress",
        """
table inet f { chain in { type filter hook ingress device "lan" priority 0; policy accept;
  tcp dport 443 drop
} }""",
    ),
    Set("echo ignored", more="on server sysctl -qw net.ipv4.icmp_echo_ignore_all=1"),
    Set(
        "passing on what comes in by one interface",
        forwards=("net/ipv4/conf/lan/forwarding", "net/ipv6/conf/lan/force_forwarding"),
    ),
    Set(
        "passing on by one interface, with sessions",
        f"""
table inet f {{ chain forward {{ type filter hook forward priority 0; policy drop;
  {KNOWN}
  tcp dport {{ 22, 80 }} accept
  icmp type echo-request accept
}} }}""",
        forwards=("net/ipv4/conf/lan/forwarding", "net/ipv6/conf/lan/force_forwarding"),
    ),
    Set(
        "IPv6 asks all interfaces at once",
        more="on gate sysctl -qw net.ipv6.conf.up.forwarding=0",
        forwards=("net/ipv6/conf/all/forwarding",),
    ),
    Set(
        "links between two",
        more="""
on gate ip -4 addr flush dev up
on server ip -4 addr flush dev eth0
on gate ip addr add 172.20.2.1 peer 172.20.2.10 dev up
on server ip addr add 172.20.2.10 peer 172.20.2.1 dev eth0
on server ip route add default via 172.20.2.1""",
    ),
    Set(
        "a next hop said to be on the link",
        more="""
on pc ip -4 addr flush dev eth0
on gate ip -4 addr flush dev lan
on pc ip addr add 172.20.1.10/32 dev eth0
on pc ip route add default via 172.20.1.1 dev eth0 onlink
on gate ip addr add 172.20.1.1/32 dev lan
on gate ip route add 172.20.1.10 dev lan""",
    ),
    Set(
        "a next hop by a route of the link",
        more="""
on pc ip -4 addr flush dev eth0
on gate ip -4 addr flush dev lan
on pc ip addr add 172.20.1.10/32 dev eth0
on pc ip route add 172.20.1.1 dev eth0 scope link
on pc ip route add default via 172.20.1.1
on gate ip addr add 172.20.1.1/32 dev lan
on gate ip route add 172.20.1.0/24 dev lan""",
    ),
    Set(
        "addresses that bring no route",
        more="""
on gate ip addr del 172.20.2.1/24 dev up
on gate ip addr del 2001:db8:2::1/64 dev up
on gate ip addr add 172.20.2.1/24 dev up noprefixroute
on gate ip addr add 2001:db8:2::1/64 dev up noprefixroute nodad
on gate ip -6 route add 2001:db8:2::/64 dev up""",
    ),
    Set(
        "addresses of the local table",
        more="""
on gate ip route add local 172.20.2.77 dev lo
on gate ip -6 route add local 2001:db8:2::77 dev lo""",
        talk=(*TALK, ("pc", SERVED, "tcp/80"), ("pc", SERVED, "ping")),
    ),
    Set(
        "the same link-local address on every link",
        more="""
on gate ip -6 addr add fe80::1/64 dev lan nodad
on gate ip -6 addr add fe80::1/64 dev up nodad
on pc ip -6 route replace default via fe80::1 dev eth0
on server ip -6 route replace default via fe80::1 dev eth0""",
    ),
    Set(
        "bridged packets that meet the filter",
        WEB_ALONE,
        more=f"""
{BRIDGED}
on gate sysctl -qw net.bridge.bridge-nf-call-iptables=1 net.bridge.bridge-nf-call-ip6tables=1""",
        talk=NEAR,
    ),
    Set(
        "bridged packets that meet no filter",
        WEB_ALONE,
        more=f"""
{BRIDGED}
on gate sysctl -qw net.bridge.bridge-nf-call-iptables=0 net.bridge.bridge-nf-call-ip6tables=0""",
        talk=NEAR,
    ),
    Set("a silent discard", more="on gate ip route add blackhole 172.20.2.10/32"),
)


EXAMPLES = Path("/usr/share/doc/nftables/examples")
RENAMED = {"eth0": "lan", "eth1": "up", "eth2": "lo", "eth3": "lo", "bond0": "lan", "bond1": "up"}
_INCLUDE = re.compile(r'^include "\./(.+)"$', re.M)


def shipped() -> Iterator[Set]:
    """The rule sets that come with the packet filter, about the interfaces and addresses that are here."""
    for path in sorted(EXAMPLES.glob("*.nft")):
        text = _INCLUDE.sub(lambda found: (EXAMPLES / found[1]).read_text(), path.read_text())
        for old, new in RENAMED.items():
            text = re.sub(rf"\b{old}\b", new, text)
        text = text.replace("delete table filter\n", "table filter {\n}\ndelete table filter\n")
        yield Set(path.stem, text)


def main() -> None:
    own_files()
    if sys.argv[1:] == ["examples"]:
        sets = [*shipped()]
    elif len(sys.argv) > 1:
        from tests.kernel.random_sets import random_set

        first, count = map(int, sys.argv[1:])
        sets = [random_set(seed) for seed in range(first, first + count)]
    else:
        sets = [*SETS]
    print(json.dumps({each.name: _tried(each) for each in sets}))


def _named(whom: str, goal: str) -> str:
    return goal if whom == SERVED else f"{whom.partition('-')[0]}:{goal}"


def _tried(asked: Set) -> dict[str, object] | None:
    """What was collected and seen; None where the packet filter does not take such rules."""
    spaces = {name: make_space(name) for name in NAMES}
    try:
        for line in (*BASE.strip().splitlines(), *asked.more.strip().splitlines()):
            carry_out(spaces, line.split())
        switch_on(spaces["gate"], *asked.forwards)
        if asked.filter:
            try:
                given = asked.filter.replace("} }", "}\n}").replace("; }", ";\n}")
                run_in(spaces["gate"], "nft", "-f", "-", given=given)
            except RuntimeError:
                if asked in SETS:
                    raise
                return None
        for name in NAMES:
            for protocol, port in PORTS:
                listen(spaces[name], protocol, port)
        files = {f"{name}.json": collected_in(spaces[name], name) for name in spaces}
        flows = [
            (who, whom, service, ADDRESSES[who][number], ADDRESSES[whom][number])
            for who, whom, service in asked.talk
            for number in (0, 1)
        ]
        with ThreadPoolExecutor(8) as pool:
            sees = pool.map(lambda flow: attempt(spaces[flow[0]], flow[3], flow[4], flow[2]), flows)
        seen = [
            (f"{who}:{source} → {_named(whom, goal)} {service}", what)
            for (who, whom, service, source, goal), what in zip(flows, sees, strict=True)
        ]
        return {"files": files, "seen": seen}
    finally:
        _unmake(spaces)


def _unmake(spaces: dict[str, Namespace]) -> None:
    for name, space in spaces.items():
        subprocess.run(["ip", "netns", "del", name], check=True)
        os.close(space.descriptor)


if __name__ == "__main__":
    main()
