"""Random machine sets: filters, maps, jumps, priorities, families, routing rules and settings of all kinds.

Drawn from what the packet filter's manual allows, and not from what its reader here knows.
"""

from random import Random

from tests.kernel.small import FORWARDS, TALK, Set

_SOURCES = (
    "172.20.1.0/24",
    "172.20.1.10",
    "172.20.2.10",
    "172.20.2.0/25",
    "172.20.1.8-172.20.1.40",
    "172.20.7.0/24",
)
_SIX = ("2001:db8:1::/64", "2001:db8:1::10", "2001:db8:2::10", "2001:db8:2::/65")
_PORTS = ("22", "80", "443", "53", "81", "1-100", "{ 22, 80 }", "{ 80-90, 443 }")
_STATES = (
    "established,related",
    "established",
    "new",
    "invalid",
    "{ established, related, untracked }",
    "{ new, established }",
    "related",
)
_VERDICTS = (
    "accept",
    "accept",
    "accept",
    "drop",
    "drop",
    "reject",
    "reject with icmpx admin-prohibited",
    "continue",
)
_MORE = (
    ("limit rate 50/second",),
    ("limit rate over 100/second",),
    ("counter",),
    ('log prefix "x"',),
    ("meta mark set 0x7",),
    ("meta mark 0x7",),
    ("ct mark 0",),
    ("quota over 500 mbytes",),
    ("ip length < 2000",),
    ("meta length > 20",),
    ("meta pkttype host",),
    ("ct direction original",),
    ("ip ttl > 3",),
    ("tcp option maxseg exists",),
    ("fib saddr type unicast",),
    ("meta cpu 0-64",),
)


def random_set(seed: int) -> Set:
    chance = Random(f"machines {seed}")
    tables = [_table(chance, number) for number in range(chance.choice((1, 1, 2, 3)))]
    more: list[str] = []
    if chance.random() < 0.12:
        selects = chance.choice(("from 172.20.1.10", "to 172.20.2.10", "iif lan"))
        more += ["on gate ip route add blackhole 172.20.2.0/24 table 100"]
        more.append(f"on gate ip rule add {selects} table 100 priority 100")
    if chance.random() < 0.1:
        more.append(f"on gate sysctl -qw net.ipv4.conf.all.rp_filter={chance.choice((1, 2))}")
    if chance.random() < 0.1:
        more.append(
            f"on gate ip route add {chance.choice(('blackhole', 'unreachable', 'prohibit'))} 172.20.2.10/32"
        )
    if chance.random() < 0.1:
        more.append(f"on {chance.choice(('gate', 'server'))} sysctl -qw net.ipv4.icmp_echo_ignore_all=1")
    forwards = FORWARDS if chance.random() < 0.9 else FORWARDS[: chance.randrange(2)]
    if chance.random() < 0.1:
        ports = ("net/ipv4/conf/{}/forwarding", "net/ipv6/conf/{}/force_forwarding")
        forwards = tuple(
            each.format(port) for each in ports for port in chance.choice((("lan",), ("lan", "up")))
        )
    if chance.random() < 0.1:
        more.append(f"on gate ip route add local 172.20.{chance.choice(('2.77', '1.128/26'))} dev lo")
    if chance.random() < 0.1:
        more.append("on gate ip addr del 172.20.2.1/24 dev up")
        more.append(
            f"on gate ip addr add 172.20.2.1/24 dev up {chance.choice(('', 'noprefixroute'))}".strip()
        )
    return Set(f"random {seed}", "\n".join(tables), "\n".join(more), forwards, TALK)


def _table(chance: Random, number: int) -> str:
    family = chance.choice(("inet", "inet", "ip", "ip6"))
    name = f"t{number}"
    helpers = [f"h{one}" for one in range(chance.randrange(3))]
    lines = [f"table {family} {name} {{"]
    if chance.random() < 0.05:
        lines.append("flags dormant")
    if family != "ip6":
        lines += [
            "set some {",
            "type ipv4_addr; flags interval",
            "elements = { 172.20.1.0/26, 172.20.2.10 }",
            "}",
        ]
    for place, helper in enumerate(helpers):
        lines += [f"chain {helper} {{", *_rules(chance, family, helpers[:place], 3, True), "}"]
    for hook in chance.sample(
        ("forward", "forward", "input", "prerouting", "postrouting", "output"), chance.randrange(1, 3)
    ):
        policy = chance.choice(("accept", "drop")) if hook in ("forward", "input") else "accept"
        priority = chance.choice(("-150", "-10", "0", "0", "10", "filter"))
        lines.append(f"chain {hook}{chance.randrange(1000)} {{")
        lines.append(f"type filter hook {hook} priority {priority}; policy {policy};")
        if chance.random() < 0.6:
            lines.append(f"ct state {chance.choice(_STATES)} accept")
        if family != "ip" and (policy == "drop" or chance.random() < 0.5):
            lines.append("icmpv6 type { nd-neighbor-solicit, nd-neighbor-advert } accept")
        lines += [*_rules(chance, family, helpers, 6, False), "}"]
    if chance.random() < 0.2 and family in ("ip", "inet"):
        lines += _rewriting(chance)
    return "\n".join([*lines, "}"])


def _rewriting(chance: Random) -> list[str]:
    where = chance.choice(('oifname "up" ', "", 'oifname "lan" '))
    what = chance.choice(("", "ip saddr 172.20.1.0/24 ", "tcp dport 80 "))
    dnat = chance.choice(('iifname "up" ', "")) + chance.choice(("ip daddr 172.20.2.1 ", ""))
    found = [
        "chain post {",
        "type nat hook postrouting priority 100; policy accept;",
        f"{where}{what}masquerade",
        "}",
    ]
    if chance.random() < 0.5:
        found += [
            "chain pre {",
            "type nat hook prerouting priority -100; policy accept;",
            f"{dnat}tcp dport 8080 dnat ip to 172.20.1.10:80",
            "}",
        ]
    return found


def _rules(chance: Random, family: str, helpers: list[str], most: int, may_return: bool) -> list[str]:
    return [_rule(chance, family, helpers, may_return) for _ in range(chance.randrange(1, most + 1))]


def _rule(chance: Random, family: str, helpers: list[str], may_return: bool) -> str:
    words: list[str] = []
    if chance.random() < 0.3:
        side, not_ = chance.choice(("iifname", "oifname")), chance.choice(("", "!= "))
        words.append(f"{side} {not_}{chance.choice(('lan', 'up'))}")
    if chance.random() < 0.4 and family != "ip6":
        side, not_ = chance.choice(("saddr", "daddr")), chance.choice(("", "", "!= "))
        words.append(f"ip {side} {not_}{chance.choice((*_SOURCES, '@some'))}")
    elif chance.random() < 0.3 and family != "ip":
        words.append(f"ip6 {chance.choice(('saddr', 'daddr'))} {chance.choice(_SIX)}")
    draw = chance.random()
    if draw < 0.45:
        words.append(
            f"{chance.choice(('tcp', 'tcp', 'udp'))} dport "
            f"{chance.choice(('', '', '!= '))}{chance.choice(_PORTS)}"
        )
    elif draw < 0.55:
        words.append(f"meta l4proto {chance.choice(('tcp', 'udp', '{ tcp, udp }', '{ icmp, ipv6-icmp }'))}")
    elif draw < 0.62 and family != "ip6":
        words.append("icmp type echo-request")
    elif draw < 0.68:
        words.append(f"ct state {chance.choice(_STATES)}")
    elif draw < 0.74:
        keys = ", ".join(
            f"{port} : {chance.choice(('accept', 'drop'))}" for port in chance.sample(("22", "80", "443"), 2)
        )
        default = chance.choice(("", ", * : drop", ", * : continue"))
        return " ".join([*words, f"tcp dport vmap {{ {keys}{default} }}"])
    if chance.random() < 0.2:
        words += chance.choice(_MORE)
    if helpers and chance.random() < 0.3:
        return " ".join([*words, f"{chance.choice(('jump', 'jump', 'goto'))} {chance.choice(helpers)}"])
    if may_return and chance.random() < 0.2:
        return " ".join([*words, "return"])
    verdict = chance.choice(_VERDICTS)
    return " ".join([*words, "drop" if verdict.startswith("reject") and "prerouting" in words else verdict])
