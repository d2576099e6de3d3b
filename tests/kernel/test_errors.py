"""What a device says of a packet that got no further: from where, and past which lists."""

import pytest

from greyheron.formats.workspace import read_workspace
from greyheron.rehearsal.runner import missing, run_rehearsal

pytestmark = pytest.mark.skipif(bool(missing()), reason=" ".join(missing()) or "a rehearsal can be had")

TRACKER = """
format: grey-heron/1
name: a tracker whose own packets meet its lists
devices:
- name: gate
  kind: router
  interfaces:
  - {name: near, addresses: [172.20.1.1/24, '2001:db8:1::1/64']}
  - {name: far, addresses: [172.20.2.1/24, '2001:db8:2::1/64']}
  tracks: [tcp, udp, icmp]
  filters_own_traffic: true
  answers_denied: true
- name: left
  kind: host
  interfaces: [{name: eth0, addresses: [172.20.1.10/24, '2001:db8:1::10/64']}]
  gateway: 172.20.1.1
  gateway6: 2001:db8:1::1
links:
- ends: ['gate:near', 'left:eth0']
lists:
- {name: shut, family: ipv4, kind: extended, entries: deny tcp from any to any}
- {name: shut6, family: ipv6, kind: extended, entries: deny tcp from any to any}
- name: in4
  family: ipv4
  kind: extended
  entries: |
    deny tcp from any to any port 81
    permit any from any to any
- name: in6
  family: ipv6
  kind: extended
  entries: |
    deny tcp from any to any port 81
    permit any from any to any
placements:
- {list: shut, device: gate, at: near, direction: out}
- {list: shut6, device: gate, at: near, direction: out}
- {list: in4, device: gate, at: near, direction: in}
- {list: in6, device: gate, at: near, direction: in}
tests:
"""
TRANSLATOR = """
format: grey-heron/1
name: a translator with nobody outside
devices:
- name: gate
  kind: router
  interfaces:
  - {{name: near, addresses: [172.20.1.1/24, '2001:db8:1::1/64']}}
  - {{name: far, addresses: [172.20.2.1/24, '2001:db8:2::1/64']}}
  translations:
  - {{inside: [near], outside: far, {four}}}
  - {{inside: [near], outside: far, {six}}}
- name: left
  kind: host
  interfaces: [{{name: eth0, addresses: [172.20.1.10/24, '2001:db8:1::10/64']}}]
  gateway: 172.20.1.1
  gateway6: 2001:db8:1::1
- {{name: other, kind: host, interfaces: [{{name: eth0, addresses: [172.20.2.2/24, '2001:db8:2::2/64']}}]}}
links:
- ends: ['gate:near', 'left:eth0']
- ends: ['gate:far', 'other:eth0']
tests:
"""
SERVICES = ("tcp/443", "udp/53", "ping")
GIVEN = {
    "an address beside its own": ("172.20.2.10", "2001:db8:2::10"),
    "one that it has no route to": ("172.20.88.10", "2001:db8:88::10"),
    "its own": None,
}


def seen_of(
    text: str, destinations: tuple[str, ...], services: tuple[str, ...]
) -> dict[str, tuple[str, bool]]:
    """What the sender saw of each conversation in the kernel, and whether that was predicted."""
    flows = [f"left → {address} {service}" for address in destinations for service in services]
    tests = "".join(f"- {{id: t{number}, flow: '{flow} block'}}\n" for number, flow in enumerate(flows))
    report = run_rehearsal(read_workspace((text + tests).encode()), lambda _stage, _done: None)
    assert report.left_out == ()
    return {each.flow.removesuffix(" block"): (each.sees, each.agrees) for each in report.tried}


def test_a_trackers_own_errors_belong_to_the_conversation_they_speak_of() -> None:
    """Never let in, without a route, without a neighbour: the list that denies them is not asked."""
    gone, nobody = ("172.20.77.7", "2001:db8:77::7"), ("172.20.2.99", "2001:db8:2::99")
    found = seen_of(TRACKER, gone, SERVICES) | seen_of(TRACKER, nobody, (*SERVICES, "tcp/81"))
    assert all(agrees for _, agrees in found.values()), found
    says = {flow: sees.partition(" from ")[0] for flow, (sees, _) in found.items()}
    assert {says[f"left → {address} tcp/443"] for address in gone} == {"network unreachable"}
    assert {says[f"left → {address} tcp/81"] for address in nobody} == {"administratively prohibited"}


@pytest.mark.parametrize("given", GIVEN.values(), ids=GIVEN.keys())
def test_who_speaks_of_what_was_given_another_source(given: tuple[str, str] | None) -> None:
    four, six = (
        ("kind: dynamic, source: 172.20.1.0/24", "kind: dynamic, source: '2001:db8:1::/64'")
        if given is None
        else (
            f"kind: static, source: 172.20.1.10, to: {given[0]}",
            f"kind: static, source: '2001:db8:1::10', to: '{given[1]}'",
        )
    )
    text = TRANSLATOR.format(four=four, six=six)
    found = seen_of(text, ("172.20.2.99", "2001:db8:2::99", *(given or ())), SERVICES)
    assert all(agrees for _, agrees in found.values()), found
