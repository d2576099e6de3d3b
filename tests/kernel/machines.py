"""Five machines in namespaces, collected as anybody would, and conversations between them for real.

Run as a process that is first in namespaces of its own; prints what was collected and what was seen as JSON.
"""

import json

from greyheron.rehearsal.stage import own_files
from tests.kernel.wires import attempt, carry_out, collected_in, listen, make_space, run_in, switch_on

NAMES = ("desk", "till", "gate", "shed", "ledger", "air")
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
    spaces = {name: make_space(name) for name in NAMES}
    for line in SETUP.strip().splitlines():
        carry_out(spaces, line.split())
    for name in ("gate", "shed"):
        switch_on(spaces[name], "net/ipv4/ip_forward", "net/ipv6/conf/all/forwarding")
    for name, rules in FILTERS.items():
        run_in(spaces[name], "nft", "-f", "-", given=rules)
    for name, ports in LISTENING.items():
        for protocol, port in ports:
            listen(spaces[name], protocol, port)
    files = {f"{name}.json": collected_in(spaces[name], name) for name in NAMES if name != "air"}
    seen = []
    for who, whom, service in CONVERSATIONS:
        for number, family in enumerate(("ipv4", "ipv6")):
            flow = f"{who}:{ADDRESSES[who][number]} → {whom}:{ADDRESSES[whom][number]} {service}"
            seen.append(
                (flow, attempt(spaces[who], ADDRESSES[who][number], ADDRESSES[whom][number], service))
            )
            del family
    print(json.dumps({"files": files, "seen": seen}))


if __name__ == "__main__":
    main()
