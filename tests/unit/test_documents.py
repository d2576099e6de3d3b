"""Documents that are wrong: each says where, what, and what would be right; all at once."""

from collections.abc import Callable
from typing import Any

import pytest

from greyheron.demo.networks import saltmarsh
from greyheron.formats.workspace import LARGEST_FILE, read_workspace, write_workspace
from greyheron.model.document import MOST_DEVICES
from greyheron.model.problems import DocumentError
from greyheron.model.read import read_network
from tests.lab import Lab


def problems(lab: Lab) -> list[str]:
    with pytest.raises(DocumentError) as caught:
        lab.network()
    return [str(problem) for problem in caught.value.problems]


def set_(*path: Any, value: Any) -> Callable[[Lab], None]:
    def change(lab: Lab) -> None:
        at = lab.data
        for step in path[:-1]:
            at = at[step]
        at[path[-1]] = value

    return change


WRONG: dict[str, tuple[Callable[[Lab], object], str]] = {
    "two devices of one name": (
        lambda lab: lab.data["devices"].append({"name": "r1", "kind": "host"}),
        "device r1: this name is used twice",
    ),
    "two interfaces of one name": (
        lambda lab: lab.device("r1")["interfaces"].append({"name": "eth0"}),
        "device r1, interface eth0: this name is used twice",
    ),
    "one address twice": (
        lambda lab: lab.interface("spare", "eth0").update(addresses=["172.20.3.10/24"]),
        "172.20.3.10 is also the address of device right, interface eth0",
    ),
    "a network's own address": (
        lambda lab: lab.interface("spare", "eth0").update(addresses=["172.20.3.0/24"]),
        "network address of 172.20.3.0/24",
    ),
    "an address without a length": (
        lambda lab: lab.interface("spare", "eth0").update(addresses=["172.20.3.12"]),
        "device spare, interface eth0, address 1: “172.20.3.12” has no prefix length",
    ),
    "an unknown kind": (set_("devices", 0, "kind", value="modem"), "device left, kind"),
    "a misspelt field": (
        set_("devices", 0, "gatewy", value="172.20.1.1"),
        "device left, gatewy: there is no such field",
    ),
    "a wrong type": (set_("devices", 0, "interfaces", value="eth0"), "device left, interfaces"),
    "a test flow that is no text": (
        set_("tests", value=[{"id": "a", "flow": {"source": "left"}}]),
        "test flow a, flow: this is text in the notation: kiosk → ledger tcp/443 pass, say",
    ),
    "a requirement that is no text": (
        set_("requirements", value=[{"id": "a", "statement": 5}]),
        "requirement a, statement: this is text in the notation",
    ),
    "a window that is no text": (
        set_("periods", value=[{"name": "day", "windows": [5]}]),
        "period day, window 1: this is text in the notation: mon-fri 08:00-18:00, say",
    ),
    "a bad name": (set_("devices", 0, "name", value="left host"), "is no name"),
    "a link to nowhere": (
        lambda lab: lab.data["links"].append({"ends": ["r1:eth9", "r2:lo0"]}),
        "there is no interface “eth9”: known are",
    ),
    "a link to an unknown device": (
        lambda lab: lab.data["links"].append({"ends": ["r9:eth0", "r2:lo0"]}),
        "there is no device “r9”",
    ),
    "an interface in two links": (
        lambda lab: lab.data["links"].append({"ends": ["r1:eth0", "r2:lo0"]}),
        "r1:eth0 is already joined by",
    ),
    "a link from an interface to itself": (
        lambda lab: lab.data["links"].append({"ends": ["r1:lo0", "r1:lo0"]}),
        "both ends are r1:lo0",
    ),
    "next hops that lead to each other": (
        lambda lab: lab.route("r1", "172.22.0.0/16", via="172.23.0.1").route(
            "r1", "172.23.0.0/16", via="172.22.0.1"
        ),
        "device r1, route 172.22.0.0/16: its next hop is reached only by way of the route itself",
    ),
    "a next hop inside its own route": (
        lambda lab: lab.route("r1", "172.22.0.0/16", via="172.22.0.1"),
        "reached only by way of the route itself",
    ),
    "a route to nothing": (lambda lab: lab.route("r1", "172.22.0.0/16"), "a next hop, an interface, or both"),
    "a route by the device's own address": (
        lambda lab: lab.route("r1", "172.22.0.0/16", via="172.20.0.1"),
        "the device's own address",
    ),
    "a router with a gateway": (
        lambda lab: lab.device("r1").update(gateway="172.20.0.2"),
        "a router has no gateway: write a route to 0.0.0.0/0",
    ),
    "a switch with an address": (
        lambda lab: lab.interface("sw", "p1").update(addresses=["172.20.1.5/24"]),
        "a switch port has no address",
    ),
    "two services on a port": (
        lambda lab: lab.device("right")["services"].append({"name": "other", "protocol": "tcp", "port": 443}),
        "another service listens on tcp/443 too",
    ),
    "a placement of an unknown list": (
        set_("placements", value=[{"list": "nope", "device": "r1", "at": "eth0", "direction": "in"}]),
        "there is no list “nope”",
    ),
    "a placement at an unknown interface": (
        lambda lab: lab.place("r1 eth7 in", "permit any"),
        "there is no interface or line “eth7”: known are console, eth0",
    ),
    "two lists in one place": (
        lambda lab: lab.place("r1 eth0 in", "permit any").place("r1 eth0 in", "permit any", name="other"),
        "list is placed there already",
    ),
    "a list on a switch": (lambda lab: lab.place("sw p1 in", "permit any"), "a switch takes no lists"),
    "a list outbound on a line": (lambda lab: lab.place("r1 remote out", "permit any"), "inbound only"),
    "an entry about an unknown set": (
        lambda lab: lab.place("r1 eth0 in", "permit any to @nowhere"),
        "list list, entry 10: there is no address set or device “nowhere”",
    ),
    "an entry about an unknown port set": (
        lambda lab: lab.place("r1 eth0 in", "permit tcp to any port @nothing"),
        "there is no port set “nothing”",
    ),
    "a misread entry": (
        lambda lab: lab.place("r1 eth0 in", "permit any\ndeny tpc"),
        "list list, entries, line 2, column 6: “tpc” is no protocol",
    ),
    "a standard IPv6 list": (
        lambda lab: lab.place("r1 eth0 in", "permit any", kind="standard", family="ipv6"),
        "make an IPv6 list extended",
    ),
    "a port set in a port set": (
        set_("port_sets", value=[{"name": "web", "members": ["@other"]}]),
        "a port set holds ports and ranges only",
    ),
    "a test of an unknown device": (
        set_("tests", value=[{"flow": "left → nobody ping pass"}]),
        "test flow t1: there is no device “nobody”",
    ),
    "a test of an unknown service": (
        set_("tests", value=[{"flow": "left → right webb pass"}]),
        "no service is known by the name “webb”: right offers web, telnet, names",
    ),
    "a test without an expectation": (
        set_("tests", value=[{"flow": "left → right web"}]),
        "test flow t1, flow, line 1, column 18: the line ends too early",
    ),
    "devices that are no list": (set_("devices", value={"r1": {}}), "document, devices: expected a list"),
    "another format": (set_("format", value="grey-heron/9"), "expected grey-heron/1, found “grey-heron/9”"),
}


@pytest.mark.parametrize(("change", "message"), WRONG.values(), ids=WRONG.keys())
def test_a_wrong_document_says_where_and_what(change: Callable[[Lab], object], message: str) -> None:
    found = problems(Lab().with_(change))
    assert any(message in problem for problem in found), found


def test_all_problems_are_told_at_once_and_none_because_of_another() -> None:
    lab = Lab().place("r1 eth0 in", "permt any").place("r3 eth0 in", "deny any to @nowhere", name="second")
    lab.device("right")["kind"] = "hosst"
    lab.data["tests"] = [{"flow": "left → right web pass"}, {"flow": "left → r9 ping pass"}]
    found = problems(lab)
    assert len(found) == 4, (
        found
    )  # the kind, the entry, the set, r9: nothing about right or list being unknown


HOSTILE = {
    "no YAML": ("devices: [1, 2", "this is not YAML"),
    "an alias": ("format: &a grey-heron/1\nname: *a", "aliases are not read"),
    "a tag": ("format: !!python/object:os.system x", "are not read: take it out"),
    "a key twice": ("format: grey-heron/1\nname: a\nname: b", "“name” is written twice"),
    "too deep": ("[" * 40 + "]" * 40, "nested deeper"),
    "a list": ("- 1", "this is no network"),
    "nothing": ("", "this is no network"),
    "a control character": ("name: \x07", "control characters"),
    "no": ("format: grey-heron/1\nname: [no]", "document, name"),
}


@pytest.mark.parametrize(("text", "message"), HOSTILE.values(), ids=HOSTILE.keys())
def test_a_file_that_is_no_workspace(text: str, message: str) -> None:
    with pytest.raises(DocumentError) as caught:
        read_workspace(text)
    assert message in str(caught.value)


def test_bytes_that_are_no_text_and_files_that_are_too_large() -> None:
    with pytest.raises(DocumentError, match="no UTF-8"):
        read_workspace(b"name: \xff")
    with pytest.raises(DocumentError, match="larger than"):
        read_workspace(b" " * (LARGEST_FILE + 1))


def test_a_document_is_bounded() -> None:
    devices = [{"name": f"h{number}", "kind": "host"} for number in range(MOST_DEVICES + 1)]
    with pytest.raises(DocumentError, match=rf"document, devices: .* at most {MOST_DEVICES} items"):
        read_network({"format": "grey-heron/1", "name": "many", "devices": devices})


def test_a_workspace_file_reads_back_as_written() -> None:
    demo = saltmarsh()
    assert read_workspace(write_workspace(demo)) == demo
    assert read_network(Lab().data) == Lab().network()


def test_yes_and_no_are_words_in_a_workspace_file() -> None:
    network = read_workspace("format: grey-heron/1\nname: no\n")
    assert network.name == "no"
