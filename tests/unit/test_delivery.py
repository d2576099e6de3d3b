"""§4 and §5: what a router's own addresses, services and management lines make of packets."""

import pytest

from tests.cases import Case, all_of, check
from tests.lab import Lab


def lines(*offered: tuple[str, list[str]]) -> list[dict[str, object]]:
    return [{"name": name, "transports": transports} for name, transports in offered]


WEB_LINE: tuple[tuple[str, list[str]], ...] = (
    ("remote", ["ssh"]),
    ("web", ["https", "http"]),
    ("console", []),
)

DELIVERY = {
    "a web line takes https": Case(
        "left → r2 https", "passes", change=lambda lab: lab.device("r2").update(lines=lines(*WEB_LINE))
    ),
    "a web line takes http": Case(
        "left → r2 http", "passes", change=lambda lab: lab.device("r2").update(lines=lines(*WEB_LINE))
    ),
    "a list on the web line does not stop ssh": Case(
        "left → r2 ssh",
        "passes",
        change=all_of(
            lambda lab: lab.device("r2").update(lines=lines(*WEB_LINE)),
            lambda lab: lab.place("r2 web in", "deny any", kind="standard"),
        ),
    ),
    "a list on the web line stops https": Case(
        "left → r2 https",
        "blocked",
        "r2’s web line: list denies, entry 10",
        all_of(
            lambda lab: lab.device("r2").update(lines=lines(*WEB_LINE)),
            lambda lab: lab.place("r2 web in", "deny any", kind="standard"),
        ),
    ),
    "a transport that the line does not offer is refused": Case(
        "left → r2 telnet",
        "refused",
        "no line offers this login",
        lambda lab: lab.device("r2").update(lines=lines(("remote", ["ssh"]))),
    ),
    "the first line that offers the transport takes the login": Case(
        "left → r2 ssh",
        "passes",
        change=all_of(
            lambda lab: lab.device("r2").update(lines=lines(("remote", ["ssh"]), ("web", ["ssh"]))),
            lambda lab: lab.place("r2 web in", "deny any", kind="standard"),
        ),
    ),
    "an extended list on a line sees the address that was called": Case(
        "left → r2:wan1 ssh",
        "blocked",
        "remote line: list denies, entry 10",
        lambda lab: lab.place("r2 remote in", "deny tcp to 172.20.0.5\npermit any"),
    ),
    "and leaves another address of the device open": Case(
        "left → r2:lo0 ssh",
        "passes",
        change=lambda lab: lab.place("r2 remote in", "deny tcp to 172.20.0.5\npermit any"),
    ),
    "the implicit deny of a line": Case(
        "left → r2 ssh",
        "blocked",
        "implicit deny",
        lambda lab: lab.place("r2 remote in", "permit from @spare", kind="standard"),
    ),
    "an empty list on a line stops every login": Case(
        "left → r2 ssh",
        "blocked",
        "implicit deny",
        lambda lab: lab.place("r2 remote in", "", kind="standard"),
    ),
    "a list on a line does not stop a ping to the device": Case(
        "left → r2 ping", "passes", change=lambda lab: lab.place("r2 remote in", "deny any", kind="standard")
    ),
    "a port that is no login never comes to a line": Case(
        "left → r2 tcp/8443",
        "refused",
        "nobody listens",
        lambda lab: lab.place("r2 remote in", "deny any", kind="standard"),
    ),
    "a service of a router beside its lines": Case(
        "left → r2 tcp/179",
        "passes",
        change=lambda lab: lab.device("r2").update(
            services=[{"name": "peering", "protocol": "tcp", "port": 179}]
        ),
    ),
    "ssh on a host is a service like another": Case(
        "left → right ssh",
        "passes",
        change=lambda lab: lab.device("right")["services"].append(
            {"name": "shell", "protocol": "tcp", "port": 22}
        ),
    ),
    "a TCP service does not answer on UDP": Case("left → right udp/443", "refused", "nobody listens"),
    "nor a UDP service on TCP": Case("left → right tcp/53", "refused", "nobody listens"),
    "what is neither TCP nor UDP arrives without a service": Case("left → right icmp/13", "passes"),
    "a router logs in to another, and its own line is not asked": Case(
        "r1 → r2 ssh", "passes", change=lambda lab: lab.place("r1 remote in", "deny any", kind="standard")
    ),
}

STEPS = {
    "1 arrive: a disabled interface hears nothing": Case(
        "left → r1:lo0 ping",
        "unreachable",
        change=lambda lab: lab.interface("r1", "eth0").update(enabled=False),
    ),
    "2 inbound: the list of another interface is not met": Case(
        "left → right web",
        "passes",
        change=lambda lab: lab.place("r1 wan0 in", "deny any from @left\npermit any"),
    ),
    "2 inbound: asked before the own address": Case(
        "left → r1:lo0 ping",
        "blocked",
        "entering r1 by eth0",
        lambda lab: lab.place("r1 eth0 in", "deny icmp"),
    ),
    "4 own address: the inbound list of its own interface is not met": Case(
        "left → r2:wan1 ping", "passes", change=lambda lab: lab.place("r2 wan1 in", "deny icmp")
    ),
    "4 own address: any of the device, whichever interface": Case("left → r3:eth0 ssh", "passes"),
    "5 route: a list inbound decides before the route is missed": Case(
        "left → 198.51.100.7 ping",
        "blocked",
        "entering r1 by eth0",
        lambda lab: lab.place("r1 eth0 in", "deny icmp"),
    ),
    "7 outbound: not reached where there is no route": Case(
        "left → 198.51.100.7 ping",
        "unreachable",
        "no route",
        lambda lab: lab.place("r1 wan0 out", "deny icmp"),
    ),
    "7 outbound: decides before the neighbour is missed": Case(
        "left → 172.20.3.99 ping",
        "blocked",
        "leaving r3 by eth0",
        lambda lab: lab.place("r3 eth0 out", "deny icmp"),
    ),
    "8 resolve: permitted, and nobody there": Case(
        "left → 172.20.3.99 ping",
        "unreachable",
        change=lambda lab: lab.place("r3 eth0 out", "permit icmp"),
        sees="host unreachable",
    ),
    "two lists on one way are both asked": Case(
        "left → right web",
        "blocked",
        "entering r3 by wan0: second denies",
        all_of(
            lambda lab: lab.place("r1 eth0 in", "permit any"),
            lambda lab: lab.place("r3 wan0 in", "deny tcp to any port 443\npermit any", name="second"),
        ),
    ),
    "of two that would deny, the first on the way does": Case(
        "left → right web",
        "blocked",
        "entering r1 by eth0: list denies",
        all_of(
            lambda lab: lab.place("r1 eth0 in", "deny any"),
            lambda lab: lab.place("r3 wan0 in", "deny any", name="second"),
        ),
    ),
    "in and out of one interface are two places": Case(
        "right → left ping",
        "passes",
        change=lambda lab: lab.place("r1 eth0 in", "deny icmp echo-request\npermit any"),
    ),
}


@pytest.mark.parametrize("case", DELIVERY.values(), ids=DELIVERY.keys())
def test_delivery(case: Case) -> None:
    check(Lab(), case)


@pytest.mark.parametrize("case", STEPS.values(), ids=STEPS.keys())
def test_steps_in_a_router(case: Case) -> None:
    check(Lab(), case)
