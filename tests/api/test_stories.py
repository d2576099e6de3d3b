"""Stories from the field, told through the API: what went wrong, and what put it right."""

from typing import Any

import yaml
from fastapi.testclient import TestClient

from tests.lab import Lab
from tests.unit.test_ipv6 import LINE
from tests.unit.test_ospf import RING, without_c
from tests.unit.test_translation import EDGE, home_route
from tests.working import imported


class Told:
    """A network behind the API, changed and asked as the workbench does it."""

    def __init__(self, client: TestClient, lab: Lab) -> None:
        self._client = client
        self._network = imported(client, yaml.safe_dump(lab.data).encode())

    def edit(self, *changes: dict[str, Any]) -> None:
        answer = self._client.post(
            f"/api/networks/{self._network['id']}/draft/edits",
            json={"label": "story", "changes": list(changes)},
            headers={"If-Match": f'"{self._network["version"]}"'},
        )
        assert answer.status_code == 200, answer.text
        self._network = answer.json()

    def write(self, name: str, entries: str, kind: str = "extended", family: str = "ipv4") -> None:
        item = {"name": name, "family": family, "kind": kind, "entries": entries}
        self.edit({"collection": "lists", "key": name, "item": item})

    def place(self, name: str, at: str, instead_of: str | None = None) -> None:
        changes: list[dict[str, Any]] = []
        if instead_of is not None:
            changes.append({"collection": "placements", "key": f"{instead_of.replace(' ', ':')}:{name}"})
        device, interface, direction = at.split()
        item = {"list": name, "device": device, "at": interface, "direction": direction}
        changes.append({"collection": "placements", "key": f"{at.replace(' ', ':')}:{name}", "item": item})
        self.edit(*changes)

    def device(self, name: str, **fields: Any) -> None:
        device = next(each for each in self._network["draft"]["devices"] if each["name"] == name)
        self.edit({"collection": "devices", "key": name, "item": {**device, **fields}})

    def comes_to(self, flow: str, state: str = "draft") -> str:
        answer = self._client.post(
            f"/api/networks/{self._network['id']}/trace", json={"flow": flow, "state": state}
        )
        assert answer.status_code == 200, answer.text
        text: str = answer.json()["text"]
        return text

    def passes(self, flow: str) -> bool:
        return self.comes_to(flow).startswith("passes")


def test_a_source_only_list_on_a_shared_transit_blocks_the_neighbour_until_it_moves(
    client: TestClient,
) -> None:
    told = Told(client, Lab())
    told.write("keep-left-out", "deny from 172.20.1.10\npermit any", kind="standard")
    told.place("keep-left-out", "r2 wan0 in")
    assert "entering r2 by wan0" in told.comes_to("left → right web")
    assert "entering r2 by wan0" in told.comes_to("left → r3 ssh")  # never meant
    assert told.passes("mate → right web")
    told.place("keep-left-out", "r3 eth0 out", instead_of="r2 wan0 in")
    assert "leaving r3 by eth0" in told.comes_to("left → right web")
    assert told.passes("left → r3:wan0 ssh")


def test_a_list_on_the_console_line_stops_nobody(client: TestClient) -> None:
    told = Told(client, Lab())
    told.write("nobody", "deny any", kind="standard")
    told.place("nobody", "r2 console in")
    assert told.passes("left → r2 ssh")
    told.place("nobody", "r2 remote in", instead_of="r2 console in")
    assert "r2’s remote line: nobody denies" in told.comes_to("left → r2 ssh")


def test_an_inbound_list_cuts_an_ospfv3_neighbour_and_a_route_two_routers_away(client: TestClient) -> None:
    told = Told(client, Lab.of(RING).with_(without_c))
    assert told.passes("left → right web ipv6")
    told.write("web-only", "permit tcp to any port 80\npermit icmp", family="ipv6")
    told.place("web-only", "d wan0 in")
    assert told.comes_to("left → right web ipv6") == "unreachable: a stops: no route to the destination"
    assert told.comes_to("left → right web ipv6", state="baseline").startswith("passes")
    assert told.passes("left → right web ipv4")
    told.write("web-only", "permit tcp to any port 80\npermit icmp\npermit ospf", family="ipv6")
    assert told.passes("left → right web ipv6")


def test_a_deny_of_one_router_address_leaves_its_loopback_open(client: TestClient) -> None:
    told = Told(client, Lab().route("r1", "172.20.255.2/32", via="172.20.0.2"))
    told.write("no-login", "deny tcp to 172.20.0.2 port ssh\npermit any")
    told.place("no-login", "r1 eth0 in")
    assert told.comes_to("left → r2 ssh").startswith("blocked")
    assert told.passes("left → r2:lo0 ssh")
    told.write("no-login", "deny tcp to @r2 port ssh\npermit any")
    assert told.comes_to("left → r2:lo0 ssh").startswith("blocked")


def test_a_published_server_by_its_inside_and_by_its_outside_address(client: TestClient) -> None:
    told = Told(client, Lab.of(EDGE).with_(home_route))
    assert told.passes("friend → 203.0.113.80 tcp/80")
    assert "the translated address must be used" in told.comes_to("friend → server web")


def test_blocked_replies_are_repaired_by_established_and_again_by_session_tracking(
    client: TestClient,
) -> None:
    told = Told(client, Lab())
    told.write("replies", "deny tcp to any port 80\npermit udp")
    told.place("replies", "r3 eth0 in")
    assert "on the way home, entering r3 by eth0" in told.comes_to("left → right web")
    told.write("replies", "permit tcp established\npermit udp")
    assert told.passes("left → right web")
    told.write("replies", "deny tcp to any port 80\npermit udp")
    told.device("r3", tracks=["tcp"])
    assert told.passes("left → right web")


def test_a_ping_to_a_far_address_is_blocked_on_the_way_in_and_not_by_a_list_outbound_there(
    client: TestClient,
) -> None:
    told = Told(client, Lab())
    told.write("no-ping", "deny icmp\npermit any")
    told.place("no-ping", "r3 eth0 out")
    assert told.passes("left → r3:eth0 ping")
    told.place("no-ping", "r3 wan0 in", instead_of="r3 eth0 out")
    assert "entering r3 by wan0" in told.comes_to("left → r3:eth0 ping")


def test_an_ipv6_list_of_one_deny_silently_ends_all_else_but_neighbour_discovery(client: TestClient) -> None:
    told = Told(client, Lab.of(LINE))
    told.write("one-deny", "deny tcp to any port telnet", family="ipv6")
    told.place("one-deny", "r1 eth0 in")
    for flow in ("left → right web", "left → right ping", "mate → r1:eth0 ping"):
        assert "entering r1 by eth0: one-deny denies, implicit deny" in told.comes_to(flow)
    told.write("one-deny", "deny tcp to any port telnet\npermit any", family="ipv6")
    assert told.passes("left → right web")
