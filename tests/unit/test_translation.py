"""§7: static, port and dynamic translation, and what lists see of it."""

import pytest

from tests.cases import Case, all_of, check, traced
from tests.lab import Lab

# desk and server inside, friend outside; edge is a router that tracks nothing.
EDGE = """
devices:
  - name: edge
    kind: router
    interfaces:
      - {name: in0, addresses: [172.20.1.1/24]}
      - {name: in1, addresses: [172.20.2.1/24]}
      - {name: out0, addresses: [203.0.113.1/24]}
    translations:
      - {kind: static, inside: [in0], outside: out0, source: 172.20.1.80/32, to: 203.0.113.80/32}
      - {kind: static, inside: [in0], outside: out0, source: 172.20.1.90/32, to: 203.0.113.90/32,
         protocol: tcp, port: 80, to_port: 8080}
      - {kind: static, inside: [in0], outside: out0, source: 172.20.1.128/25, to: 198.51.100.128/25}
      - {kind: dynamic, inside: [in0], outside: out0, source: 172.20.1.0/24}
  - {name: desk, kind: host, interfaces: [{name: eth0, addresses: [172.20.1.10/24]}], gateway: 172.20.1.1}
  - {name: server, kind: host, interfaces: [{name: eth0, addresses: [172.20.1.80/24]}], gateway: 172.20.1.1,
     services: [{name: web, protocol: tcp, port: 80}, {name: names, protocol: udp, port: 53}]}
  - {name: page, kind: host, interfaces: [{name: eth0, addresses: [172.20.1.90/24]}], gateway: 172.20.1.1,
     services: [{name: web, protocol: tcp, port: 80}, {name: ssh, protocol: tcp, port: 22}]}
  - {name: high, kind: host, interfaces: [{name: eth0, addresses: [172.20.1.200/24]}], gateway: 172.20.1.1,
     services: [{name: web, protocol: tcp, port: 80}]}
  - {name: other, kind: host, interfaces: [{name: eth0, addresses: [172.20.2.10/24]}], gateway: 172.20.2.1}
  - {name: friend, kind: host, interfaces: [{name: eth0, addresses: [203.0.113.10/24]}],
     routes: [{to: 198.51.100.128/25, via: 203.0.113.1}],
     services: [{name: web, protocol: tcp, port: 80}]}
  - {name: sw, kind: switch, interfaces: [{name: p1}, {name: p2}, {name: p3}, {name: p4}, {name: p5}]}
links:
  - {ends: ["edge:in0", "sw:p1"]}
  - {ends: ["sw:p2", "desk:eth0"]}
  - {ends: ["sw:p3", "server:eth0"]}
  - {ends: ["sw:p4", "page:eth0"]}
  - {ends: ["sw:p5", "high:eth0"]}
  - {ends: ["edge:in1", "other:eth0"]}
  - {ends: ["edge:out0", "friend:eth0"]}
"""


def home_route(lab: Lab) -> None:
    """The friend can answer inside addresses too."""
    lab.route("friend", "172.20.0.0/16", via="203.0.113.1")


def _moved_inside(lab: Lab) -> None:
    """The server's addresses move behind a router, where nobody has them."""
    lab.device("server").update(kind="router", name="inner", gateway=None, services=[])
    lab.device("inner")["interfaces"] = [
        {"name": "wan0", "addresses": ["172.20.1.77/24"]},
        {"name": "eth0", "addresses": ["172.20.1.81/30"]},
    ]
    lab.route("inner", "0.0.0.0/0", via="172.20.1.1").route("edge", "172.20.1.80/32", via="172.20.1.77")
    for link in lab.data["links"]:
        link["ends"] = [end.replace("server:eth0", "inner:wan0") for end in link["ends"]]


def at_friend(entries: str) -> Case:
    """The desk reaches the friend, who looks at packets as they come on the wire."""
    return Case("desk → friend web", "passes", change=lambda lab: lab.place("friend eth0 in", entries))


CASES = {
    "out by a dynamic rule, and home": Case("desk → friend web", "passes"),
    "dynamic: the outside sees the interface's address": at_friend("permit any from 203.0.113.1"),
    "dynamic with a pool: one of its addresses": Case(
        "desk → friend web",
        "passes",
        change=all_of(
            lambda lab: lab.device("edge")["translations"][3].update(to="203.0.113.64/28"),
            lambda lab: lab.place("friend eth0 in", "permit any from 203.0.113.64/28"),
        ),
    ),
    "dynamic: ping is translated too": Case("desk → friend ping", "passes"),
    "from an interface that is not inside: untranslated, and no way home": Case(
        "other → friend web", "unreachable", "on the way home, friend stops"
    ),
    "untranslated with a way home": Case("other → friend web", "passes", change=home_route),
    "static: the inside host goes out as its outside address": Case(
        "server → friend web",
        "passes",
        change=lambda lab: lab.place("friend eth0 in", "permit any from 203.0.113.80"),
    ),
    "static: reached by its outside address": Case("friend → 203.0.113.80 tcp/80", "passes"),
    "static: every service of it": Case("friend → 203.0.113.80 udp/53", "passes"),
    "static: a closed port there is refused, and that is said": Case(
        "friend → 203.0.113.80 tcp/81", "refused", sees="reset from 203.0.113.80"
    ),
    "static: UDP to a closed port is reported from the outside address": Case(
        "friend → 203.0.113.80 udp/81", "refused", sees="port unreachable from 203.0.113.80"
    ),
    "static: its inside address may not be used from outside": Case(
        "friend → server web", "blocked", "the translated address must be used", home_route, sees="nothing"
    ),
    "static prefix: each address has its counterpart": Case("friend → 198.51.100.200 tcp/80", "passes"),
    "static prefix: an outside address with nobody behind it": Case(
        "friend → 198.51.100.201 tcp/80", "unreachable", "nobody on in0 answers for 172.20.1.201"
    ),
    "port: reached by its outside port": Case("friend → 203.0.113.90 tcp/8080", "passes"),
    "port: another outside port is nobody's": Case(
        "friend → 203.0.113.90 tcp/22", "unreachable", "nobody on out0 answers"
    ),
    "port: the inside service may not be used from outside": Case(
        "friend → page web", "blocked", "the translated address must be used", home_route
    ),
    "a conversation that came in untranslated is answered untranslated, whatever rule would match": Case(
        "friend → page ssh", "passes", change=home_route
    ),
    "so is a ping": Case("friend → desk ping", "passes", change=home_route, sees="reply from 172.20.1.10"),
    "an error from inside is said by the outside address": Case(
        "friend → 203.0.113.80 tcp/80",
        "blocked",
        "entering server by eth0",
        all_of(
            lambda lab: lab.place("server eth0 in", "deny tcp to any port 80"),
            lambda lab: lab.device("server").update(answers_denied=True),
        ),
        sees="administratively prohibited from 203.0.113.80",
    ),
    "one from a router further inside too": Case(
        "friend → 203.0.113.80 tcp/80",
        "unreachable",
        "inner stops: nobody on eth0 answers for 172.20.1.80",
        lambda lab: _moved_inside(lab),
        sees="host unreachable from 203.0.113.80",
    ),
    "and one of the translating device's own, once it has translated": Case(
        "friend → 198.51.100.201 tcp/80", "unreachable", sees="host unreachable from 198.51.100.201"
    ),
    "but not one about a packet it had not translated yet": Case(
        "friend → 198.51.100.200 tcp/80",
        "blocked",
        change=lambda lab: lab.place("edge out0 in", "deny any"),
        sees="administratively prohibited from 203.0.113.1",
    ),
    "what leaves as it came is not from inside, and not translated again": Case(
        "desk → friend ping",
        "blocked",
        "on the way home, leaving edge by out0: list denies",
        all_of(
            lambda lab: lab.device("edge")["interfaces"][0].update(addresses=["172.20.1.1/28"]),
            lambda lab: lab.device("desk").update(
                interfaces=[{"name": "eth0", "addresses": ["172.20.1.18/24"]}]
            ),
            lambda lab: lab.route("edge", "0.0.0.0/0", via="203.0.113.10"),
            lambda lab: lab.place("edge out0 out", "deny any to 172.20.1.0/24\npermit any"),
        ),
    ),
    "port: what the host sends itself goes by the dynamic rule": Case(
        "page → friend web",
        "passes",
        change=lambda lab: lab.place("friend eth0 in", "permit any from 203.0.113.1"),
    ),
    "an inbound list sees the outside address": Case(
        "friend → 203.0.113.80 tcp/80",
        "passes",
        change=lambda lab: lab.place("edge out0 in", "permit tcp to 203.0.113.80 port 80"),
    ),
    "and not the inside one": Case(
        "friend → 203.0.113.80 tcp/80",
        "blocked",
        "entering edge by out0",
        lambda lab: lab.place("edge out0 in", "permit tcp to 172.20.1.80 port 80"),
    ),
    "an outbound list sees the source after translation": Case(
        "desk → friend web",
        "passes",
        change=lambda lab: lab.place("edge out0 out", "permit tcp from 203.0.113.1"),
    ),
    "an outbound list inside sees the destination after translation": Case(
        "friend → 203.0.113.80 tcp/80",
        "passes",
        change=lambda lab: lab.place("edge in0 out", "permit tcp to 172.20.1.80 port 80"),
    ),
    "a remembered translation exempts no packet from a list": Case(
        "desk → friend web",
        "blocked",
        "on the way home, entering edge by out0",
        lambda lab: lab.place("edge out0 in", "deny tcp established\npermit any"),
    ),
    "session tracking does": Case(
        "desk → friend web",
        "passes",
        change=all_of(
            lambda lab: lab.place("edge out0 in", "deny any"),
            lambda lab: lab.device("edge").update(tracks=["tcp"]),
        ),
    ),
    "the first static rule comes before the first dynamic one": Case(
        "server → friend web",
        "passes",
        change=all_of(
            lambda lab: lab.device("edge")["translations"].insert(
                0, lab.device("edge")["translations"].pop()
            ),
            lambda lab: lab.place("friend eth0 in", "permit any from 203.0.113.80"),
        ),
    ),
}


@pytest.mark.parametrize("case", CASES.values(), ids=CASES.keys())
def test_translation(case: Case) -> None:
    check(Lab.of(EDGE), case)


def test_each_rewriting_is_a_step() -> None:
    found = traced(Lab.of(EDGE), "friend → 203.0.113.90 tcp/8080").exchanges[0]
    steps = [
        step.text
        for leg in found.legs[:2]
        for hop in leg.hops
        for step in hop.steps
        if step.kind == "translated"
    ]
    assert steps == [
        "translated: destination 203.0.113.90 becomes 172.20.1.90, destination port 8080 becomes 80",
        "translated: source 172.20.1.90 becomes 203.0.113.90, source port 80 becomes 8080",
    ]
