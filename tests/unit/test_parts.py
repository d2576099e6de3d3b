"""The parts of a device as lines: read, written, and refused with a sentence."""

import pytest

from greyheron.analysis.network.completion import complete_device, complete_part
from greyheron.demo.networks import saltmarsh, storm
from greyheron.model.changes import putting
from greyheron.model.device import Device
from greyheron.model.notation.line import NotationError
from greyheron.model.parts import KINDS, PARTS, Section, lines_of, read_new_device, with_part, without_part
from greyheron.model.read import edited
from greyheron.model.values import DeviceKind

ROUTER = read_new_device("router sluice 172.20.32.1/24").device
SWITCH = read_new_device("switch centre-sw").device
HOST = read_new_device("host kiosk 172.20.16.21/24").device
OUTSIDE = read_new_device("outside beyond").device


@pytest.mark.parametrize(
    ("device", "section", "line"),
    [
        (ROUTER, "interfaces", "eth1"),
        (ROUTER, "interfaces", "eth1 172.20.16.1/24 172.20.17.1/24 2001:db8:16::1/64"),
        (ROUTER, "interfaces", "eth1 172.20.16.1/24 ospf"),
        (ROUTER, "interfaces", "eth1 172.20.16.1/24 ospf cost 20 passive disabled"),
        (ROUTER, "interfaces", "eth0.20 172.20.20.1/24 vlan 20 of eth0 ospf"),
        (SWITCH, "interfaces", "p1 access 20"),
        (SWITCH, "interfaces", "p2 trunk 10,20 untagged 1 disabled"),
        (HOST, "gateways", "172.20.16.1"),
        (HOST, "gateways", "fe80::1"),
        (OUTSIDE, "prefixes", "198.51.100.0/24"),
        (HOST, "services", "https"),
        (HOST, "services", "syslog"),
        (HOST, "services", "syslog tcp/514"),
        (HOST, "services", "page tcp/8080"),
        (ROUTER, "lines", "remote ssh,telnet"),
        (ROUTER, "lines", "web https"),
        (ROUTER, "lines", "console"),
        (ROUTER, "zones", "inner eth0,eth1"),
        (ROUTER, "zones", "inner"),
        (ROUTER, "translations", "static 172.20.40.10 as 203.0.113.10 from eth0 to wan0"),
        (ROUTER, "translations", "static 172.20.40.10 tcp/443 as 203.0.113.10 port 8443 from eth0 to wan0"),
        (ROUTER, "translations", "static 172.20.40.0/24 as 203.0.113.0/24 from eth0,eth1 to wan0"),
        (ROUTER, "translations", "dynamic 172.20.0.0/16 from eth0 to wan0"),
        (ROUTER, "translations", "dynamic 172.20.0.0/16 as 203.0.113.8/29 from eth0 to wan0"),
        (ROUTER, "routes", "0.0.0.0/0 via 172.20.32.2"),
        (ROUTER, "routes", "::/0 via fe80::1 out eth0 preference 20"),
        (ROUTER, "routes", "172.20.99.0/24 out eth0"),
        (ROUTER, "routes", "172.20.0.0/14 discard"),
    ],
)
def test_a_part_that_is_read_is_written_the_same(device: Device, section: Section, line: str) -> None:
    assert lines_of(with_part(device, section, line, None), section)[-1] == line


@pytest.mark.parametrize("network", [saltmarsh(), storm()], ids=["saltmarsh", "storm"])
def test_every_part_of_the_demo_is_read_back(network) -> None:  # type: ignore[no-untyped-def]
    for device in network.devices:
        for section, kind in PARTS.items():
            lines = lines_of(device, section)
            assert not lines or kind.fits(device.traits)
            for place, line in enumerate(lines):
                assert with_part(device, section, line, place) == device, line


@pytest.mark.parametrize(
    ("device", "section", "line", "says"),
    [
        (ROUTER, "interfaces", "eth1 172.20.16.1", "has no prefix length: write 172.20.16.1/24"),
        (ROUTER, "interfaces", "eth1 172.20.16.1/99", "no address with a prefix length"),
        (ROUTER, "interfaces", "eth1 ospf 172.20.16.1/24", "stands too late: addresses follow the name"),
        (ROUTER, "interfaces", "eth1 opsf", "did you mean “ospf”?"),
        (ROUTER, "interfaces", "eth1 vlan 4095 of eth0", "1 to 4094"),
        (ROUTER, "interfaces", "eth1 vlan 20", "the line ends too early: expected of"),
        (ROUTER, "interfaces", "eth1 # uplink", "no room for a note"),
        (ROUTER, "interfaces", "eth1 ospf cost 0", "a number from 1 to 65535"),
        (SWITCH, "interfaces", "p1 trunk 30-20", "runs backwards: write 20-30"),
        (HOST, "gateways", "172.20.16.1/24", "is no address"),
        (OUTSIDE, "prefixes", "198.51.100.7/24", "has host bits set"),
        (HOST, "services", "page", "the line ends too early"),
        (HOST, "services", "page sctp/80", "expected tcp/PORT or udp/PORT"),
        (HOST, "services", "page tcp/70000", "ports end at 65535"),
        (ROUTER, "lines", "remote rsh", "no way to log in"),
        (ROUTER, "lines", "remote", "the line ends too early"),
        (ROUTER, "lines", "serial ssh", "expected remote, web, console"),
        (ROUTER, "translations", "static 172.20.40.10 from eth0 to wan0", "expected tcp/443, as"),
        (ROUTER, "translations", "dynamic 172.20.0.0/16 tcp/80 from eth0 to wan0", "does not fit here"),
        (ROUTER, "routes", "0.0.0.0/0", "expected discard, via, out"),
        (ROUTER, "routes", "0.0.0.0/0 via eth0", "“eth0” is no address"),
        (ROUTER, "routes", "0.0.0.0/0 discard out eth0", "does not fit here"),
    ],
)
def test_what_cannot_be_read_is_said(device: Device, section: Section, line: str, says: str) -> None:
    with pytest.raises(NotationError, match="line 1, column") as raised:
        with_part(device, section, line, None)
    assert says in str(raised.value)


def test_a_part_is_put_in_its_place_or_taken_out() -> None:
    router = with_part(ROUTER, "routes", "0.0.0.0/0 via 172.20.32.2", None)
    router = with_part(router, "routes", "172.20.99.0/24 discard", None)
    assert lines_of(with_part(router, "routes", "::/0 out eth0", 0), "routes") == (
        "::/0 out eth0",
        "172.20.99.0/24 discard",
    )
    assert lines_of(without_part(router, "routes", 0), "routes") == ("172.20.99.0/24 discard",)
    two = with_part(with_part(HOST, "gateways", "172.20.16.1", None), "gateways", "2001:db8::1", None)
    assert lines_of(two, "gateways") == ("172.20.16.1", "2001:db8::1")
    assert without_part(two, "gateways", 0).gateway is None


def test_a_new_device_is_sound_in_the_demo() -> None:
    line = "host weather 172.20.24.30/24 2001:db8:24::30/64 gateway 172.20.24.1 gateway 2001:db8:24::1"
    weather = read_new_device(line).device
    assert weather.kind is DeviceKind.HOST
    assert [str(address) for address in weather.interfaces[0].addresses] == [
        "172.20.24.30/24",
        "2001:db8:24::30/64",
    ]
    assert (str(weather.gateway), str(weather.gateway6)) == ("172.20.24.1", "2001:db8:24::1")
    assert edited(saltmarsh(), [putting("devices", weather)]).devices[-1] == weather
    assert [line.name for line in ROUTER.lines] == ["remote", "console"]


def test_a_line_says_what_a_device_is_linked_with() -> None:
    assert read_new_device("host kiosk 172.20.16.21/24 to hall").to == ("hall",)
    assert read_new_device("switch hall to gate:eth1 to reed").to == ("gate:eth1", "reed")
    with pytest.raises(NotationError, match="is no name"):
        read_new_device("switch hall to 9")


@pytest.mark.parametrize(
    ("line", "interfaces"),
    [
        ("router reed 172.21.1.1/24 eth1 172.21.2.1/24", ("eth0 172.21.1.1/24", "eth1 172.21.2.1/24")),
        ("router reed 172.21.1.1/24 172.21.2.1/24", ("eth0 172.21.1.1/24", "eth1 172.21.2.1/24")),
        (
            "firewall reed wan 203.0.113.2/30 172.21.1.1/24 2001:db8:1::1/64",
            ("wan 203.0.113.2/30", "eth0 172.21.1.1/24 2001:db8:1::1/64"),
        ),
        (
            "router reed 172.21.1.1/24 ospf eth5 172.21.2.1/30 ospf",
            ("eth0 172.21.1.1/24 ospf", "eth5 172.21.2.1/30 ospf"),
        ),
        ("host kiosk 172.21.1.9/24 gateway 172.21.1.1", ("eth0 172.21.1.9/24",)),
        ("switch floor", ()),
    ],
)
def test_each_address_of_a_family_takes_an_interface_of_its_own(
    line: str, interfaces: tuple[str, ...]
) -> None:
    assert lines_of(read_new_device(line).device, "interfaces") == interfaces


@pytest.mark.parametrize(
    ("line", "says"),
    [
        ("router r1 eth1", "an address with its prefix length follows eth1"),
        ("router r1 172.20.1.1/24 eth0 172.20.2.1/24", "eth0 stands here twice"),
        ("bridge b1", "expected router, firewall, switch, host, outside"),
        ("router 1st", "is no name"),
        ("router r1 gateway 172.20.1.1", "“gateway” does not fit here"),
        ("switch s1 172.20.1.1/24", "does not fit here: expected to"),
    ],
)
def test_a_device_that_cannot_be_read(line: str, says: str) -> None:
    with pytest.raises(NotationError) as raised:
        read_new_device(line)
    assert says in str(raised.value)


def test_completion_knows_the_device() -> None:
    def offered(section: Section, text: str) -> list[str]:
        weir = next(device for device in saltmarsh().devices if device.name == "weir")
        return [option.text for option in complete_part(text, weir, section)[1]]

    assert offered("zones", "guests core0,w")[:2] == ["wan0", "core0"]
    assert complete_part("guests core0,w", ROUTER, "zones")[0] == "w"
    assert "wan0" in offered("routes", "0.0.0.0/0 out ")
    assert offered("interfaces", "eth7 172.20.1.1/24 ospf ") == ["cost", "passive", "disabled"]
    assert offered("services", "")[0] == "page"
    assert [option.text for option in complete_device("")[1]] == [kind.value for kind in KINDS]
