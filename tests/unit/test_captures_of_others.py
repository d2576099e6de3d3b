"""Captures that another program made, told packet by packet as yet another one tells them."""

import struct
import subprocess
from collections.abc import Sequence
from decimal import Decimal
from importlib import import_module
from ipaddress import ip_address
from pathlib import Path
from random import Random
from shutil import which
from typing import Any

import pytest

from greyheron.formats.bundle import Bundle
from greyheron.formats.traffic import read_traffic
from tests.unit.test_traffic import flow

made: Any = import_module("scapy.all")
labels_of: Any = import_module("scapy.contrib.mpls")
TOOLS = ("tshark", "editcap", "mergecap")
LACKING = [tool for tool in TOOLS if which(tool) is None]
pytestmark = pytest.mark.skipif(bool(LACKING), reason=f"not here: {', '.join(LACKING)}")
PORTED = {"tcp": 6, "udp": 17, "sctp": 132}
FIELDS = (
    *(
        "frame.len",
        "frame.time_epoch",
        "ip.src",
        "ip.dst",
        "ipv6.src",
        "ipv6.dst",
        "icmp.type",
        "icmpv6.type",
    ),
    *(f"{name}.{end}port" for name in PORTED for end in ("src", "dst")),
)
Told = tuple[str, str, int, int, int, int, int]
"""Source, destination, protocol, ports, octets and nanoseconds of a packet."""


def some_packet(chance: Random) -> Any:
    """An IP packet with what may stand behind its header."""

    def port() -> int:
        return chance.choice((22, 53, 80, 443, chance.randrange(1024, 65536)))

    inner = chance.choice(
        [
            made.TCP(sport=port(), dport=port(), flags=chance.choice(("S", "SA", "A", "R", "FA"))),
            made.UDP(sport=port(), dport=port()) / made.Raw(b"x" * chance.randrange(40)),
            made.SCTP(sport=port(), dport=port()),
            made.GRE() / made.Raw(b"y" * chance.randrange(40)),
        ]
    )
    if chance.random() < 0.5:
        if chance.random() < 0.2:
            inner = made.ICMP(type=chance.choice((0, 3, 8, 11)))
        head = made.IP(
            src=f"172.20.16.{chance.randrange(1, 255)}", dst=f"172.20.40.{chance.randrange(1, 255)}"
        )
        if chance.random() < 0.2:
            head.options = [made.IPOption(b"\x94\x04\x00\x00")]
        if chance.random() < 0.15:
            head.flags, head.frag = chance.choice(((1, 0), (1, 185), (0, 185)))
        return head / inner
    if chance.random() < 0.2:
        inner = made.ICMPv6EchoRequest() if chance.random() < 0.5 else made.ICMPv6DestUnreach()
    six: Any = made.IPv6(
        src=f"2001:db8:16::{chance.randrange(1, 255):x}", dst=f"2001:db8:40::{chance.randrange(1, 255):x}"
    )
    if chance.random() < 0.2:
        six /= made.IPv6ExtHdrHopByHop()
    if chance.random() < 0.2:
        six /= made.IPv6ExtHdrDestOpt()
    if chance.random() < 0.2:
        six /= made.IPv6ExtHdrFragment(offset=chance.choice((0, 0, 77)), m=1, id=chance.randrange(1 << 32))
    return six / inner


def some_frame(chance: Random) -> Any:
    """It in a frame, behind what networks put before it."""
    frame: Any = made.Ether(src="02:00:00:00:00:01", dst="02:00:00:00:00:02")
    if chance.random() < 0.05:
        return frame / made.ARP(psrc="172.20.16.1", pdst="172.20.16.2")
    for _ in range(chance.choice((0, 0, 1, 2, 3))):
        frame /= made.Dot1Q(vlan=chance.randrange(1, 4095))
    around = chance.random()
    if around < 0.15:
        frame /= made.PPPoE(sessionid=7) / made.PPP()
    elif around < 0.3:
        labels = chance.randrange(1, 5)
        for number in range(labels):
            frame /= labels_of.MPLS(label=100 + number, s=number == labels - 1)
    return frame / some_packet(chance)


def capture(path: Path, frames: Sequence[Any], link: int | None = None) -> Path:
    for number, frame in enumerate(frames):
        frame.time = Decimal("1700000000.000001") + number * Decimal("0.25")
    made.wrpcap(str(path), list(frames), linktype=link)
    return path


def ran(*command: str | Path) -> str:
    return subprocess.run([*map(str, command)], capture_output=True, text=True, check=True).stdout


def told_by_others(path: Path) -> list[Told]:
    """Each packet that says who talks to whom."""
    options = (
        "-o",
        "ip.defragment:FALSE",
        "-o",
        "ipv6.defragment:FALSE",
        "-n",
        "-E",
        "occurrence=f",
        "--disable-protocol",
        "gre",
    )
    fields = [part for name in FIELDS for part in ("-e", name)]
    found: list[Told] = []
    for line in ran("tshark", "-r", path, *options, "-T", "fields", *fields).splitlines():
        row = dict(zip(FIELDS, line.split("\t"), strict=True))
        source, goal = row["ip.src"] or row["ipv6.src"], row["ip.dst"] or row["ipv6.dst"]
        if not source or not goal:
            continue
        whole, _, part = row["frame.time_epoch"].partition(".")
        time = int(whole) * 1_000_000_000 + int(part.ljust(9, "0")[:9])
        protocol, one, other = told_behind(row) or (-1, -1, -1)
        found.append((source, goal, protocol, one, other, int(row["frame.len"]), time))
    return found


def told_behind(row: dict[str, str]) -> tuple[int, int, int] | None:
    """Protocol and ports, or the type of ICMP as the second."""
    for name, protocol in PORTED.items():
        if row[f"{name}.srcport"] and row[f"{name}.dstport"]:
            return protocol, int(row[f"{name}.srcport"]), int(row[f"{name}.dstport"])
    if row["icmp.type"]:
        return 1, -1, int(row["icmp.type"])
    return (58, -1, int(row["icmpv6.type"])) if row["icmpv6.type"] else None


def told_here(path: Path) -> list[Told]:
    """The same as it is read here."""
    records, _, _ = read_traffic(Bundle("x", {path.name: path.read_bytes()}))
    found: list[Told] = []
    for index in range(len(records)):
        size = 16 if records.six[index] else 4
        high = (int(records.source_high[index]), int(records.destination_high[index]))
        low = (int(records.source_low[index]), int(records.destination_low[index]))
        ends = [str(ip_address((a << 64 | b).to_bytes(size, "big"))) for a, b in zip(high, low, strict=True)]
        names = ("protocol", "source_port", "destination_port", "octets", "first")
        protocol, one, other, octets, time = (int(getattr(records, name)[index]) for name in names)
        told = one >= 0 or other >= 0
        found.append((ends[0], ends[1], protocol if told else -1, one, other, octets, time))
    return found


CONVERSIONS: dict[str, tuple[str, ...]] = {
    "as it was written": (),
    "nanoseconds": ("-F", "nsecpcap"),
    "in blocks": ("-F", "pcapng"),
    "cut at 60": ("-s", "60"),
    "cut at 46": ("-s", "46", "-F", "pcapng"),
    "cut at 90": ("-s", "90", "-F", "pcapng"),
    "an hour later": ("-t", "3600.5", "-F", "pcapng"),
}


@pytest.mark.parametrize("options", CONVERSIONS.values(), ids=CONVERSIONS.keys())
def test_every_packet_is_told_as_others_tell_it(options: tuple[str, ...], tmp_path: Path) -> None:
    chance = Random(f"{options}")
    plain = capture(tmp_path / "plain.pcap", [some_frame(chance) for _ in range(600)])
    converted = tmp_path / "converted"
    ran("editcap", *options, plain, converted)
    others = told_by_others(converted)
    here = told_here(converted)
    assert len(here) > 150
    if "-s" not in options:
        assert here == others
        return
    # Of a packet that was cut others may say less; what is said here of it is what it was.
    assert not {each for each in others if each[2] >= 0} - set(here)
    assert not set(here) - set(told_by_others(plain))


def test_links_of_every_kind_in_one_file(tmp_path: Path) -> None:
    chance = Random(5)
    packets = [some_packet(chance) for _ in range(60)]
    kinds = {
        "ethernet": [made.Ether() / each for each in packets[:20]],
        "raw": packets[20:30],
        "cooked": [made.CookedLinux() / each for each in packets[30:40]],
        "ppp": [made.PPP() / each for each in packets[40:50]],
        "snap": [made.Dot3() / made.LLC() / made.SNAP() / made.IP(bytes(packets[0]))],
        "radio": [made.Dot11(type=2) / each for each in packets[50:55]],
    }
    links = {"raw": 101}
    files = [capture(tmp_path / f"{name}.pcap", kinds[name], links.get(name)) for name in kinds]
    merged = tmp_path / "merged.pcapng"
    ran("mergecap", "-a", "-w", merged, *files)
    others = told_by_others(merged)
    assert told_here(merged) == others
    assert len(others) >= 50
    _, notices, _ = read_traffic(Bundle("x", {"merged": merged.read_bytes()}))
    assert "5 packets are of links of the kind 105, which are not read: left out" in notices[0].message


def test_link_types_that_tell_of_check_sequences(tmp_path: Path) -> None:
    chance = Random(6)
    plain = capture(tmp_path / "plain.pcap", [some_frame(chance) / made.Raw(b"fcs!") for _ in range(50)])
    content = bytearray(plain.read_bytes())
    content[20:24] = (0x2400_0001).to_bytes(4, "little")
    (tmp_path / "checked.pcap").write_bytes(content)
    others = told_by_others(tmp_path / "checked.pcap")
    assert told_here(tmp_path / "checked.pcap") == others
    assert len(others) > 30


def block(kind: int, body: bytes) -> bytes:
    body += b"\0" * (-len(body) % 4)
    length = 12 + len(body)
    return struct.pack("<II", kind, length) + body + struct.pack("<I", length)


SECTION = block(0x0A0D0D0A, struct.pack("<IHHq", 0x1A2B3C4D, 1, 0, -1))


def interface(*options: tuple[int, bytes], link: int = 1, most: int = 0) -> bytes:
    told = b"".join(
        struct.pack("<HH", code, len(value)) + value + b"\0" * (-len(value) % 4) for code, value in options
    )
    return block(1, struct.pack("<HHI", link, 0, most) + told + (b"\0" * 4 if told else b""))


def packets_by(chance: Random, *heads: str) -> list[bytes]:
    """Blocks with a packet each, of the makes that `heads` name."""
    found: list[bytes] = []
    for number, make in enumerate(heads):
        frame = bytes(some_frame(chance))
        time = 1_700_000_000_000 + number
        high, low = time >> 32, time & 0xFFFFFFFF
        sizes = len(frame), len(frame)
        found.append(
            block(6, struct.pack("<IIIII", 0, high, low, *sizes) + frame)
            if make == "enhanced"
            else block(2, struct.pack("<HHIIII", 0, 0, high, low, *sizes) + frame)
            if make == "obsolete"
            else block(3, struct.pack("<I", sizes[1]) + frame)
        )
    return found


@pytest.mark.parametrize(
    "options",
    [(), ((9, b"\x09"),), ((9, b"\x8a"),), ((14, struct.pack("<q", 86400)),)],
    ids=["usual", "nanoseconds", "of 1024", "an offset"],
)
def test_blocks_of_every_make(options: tuple[tuple[int, bytes], ...], tmp_path: Path) -> None:
    makes = ("enhanced", "obsolete", "enhanced", "obsolete", "obsolete")
    path = tmp_path / "blocks.pcapng"
    path.write_bytes(SECTION + interface(*options) + b"".join(packets_by(Random(7), *makes)))
    others = told_by_others(path)
    assert told_here(path) == others
    assert len(others) == 5


def test_an_interface_may_be_declared_behind_its_packets(tmp_path: Path) -> None:
    packets = b"".join(packets_by(Random(8), "enhanced", "obsolete", "simple"))
    early, late = tmp_path / "early.pcapng", tmp_path / "late.pcapng"
    early.write_bytes(SECTION + interface() + packets + SECTION)
    late.write_bytes(SECTION + packets + interface() + SECTION)
    assert told_here(late) == told_here(early)
    assert len(told_here(early)) == 3


def test_times_finer_than_is_counted_here(tmp_path: Path) -> None:
    path = tmp_path / "fine.pcapng"
    port = interface((9, b"\x0c"), (14, struct.pack("<q", 1)))
    path.write_bytes(SECTION + port + b"".join(packets_by(Random(7), "enhanced")))
    assert [time for *_, time in told_here(path)] == [2_700_000_000]


COUNTED = {"cflow.packets": (2, 4), "cflow.octets": (1, 8)}
NAMED = {
    "cflow.srcaddr": (8, 4),
    "cflow.dstaddr": (12, 4),
    "cflow.srcaddrv6": (27, 16),
    "cflow.dstaddrv6": (28, 16),
    "cflow.protocol": (4, 1),
    "cflow.srcport": (7, 2),
    "cflow.dstport": (11, 2),
    **COUNTED,
}


@pytest.mark.parametrize("seed", range(6))
def test_every_flow_is_told_as_others_tell_it(seed: int, tmp_path: Path) -> None:
    chance = Random(seed)
    path = tmp_path / "flows.ipfix"
    family = ("srcaddr", "dstaddr") if seed % 2 else ("srcaddrv6", "dstaddrv6")
    counted = [name for name in COUNTED if chance.random() < 0.7]
    names = [*(f"cflow.{name}" for name in (*family, "protocol", "srcport", "dstport")), *counted]
    chance.shuffle(names)
    content = b""
    for _ in range(30):
        values = [(*NAMED[name], chance.randrange(1, 256 ** min(NAMED[name][1], 6))) for name in names]
        content += flow(*((n, size, 6 if n == 4 else value) for n, size, value in values))
    path.write_bytes(content)
    told = [f"cflow.{name}" for name in (*family, "protocol", "srcport", "dstport")] + counted
    fields = [part for name in told for part in ("-e", name)]
    lines = ran("tshark", "-r", path, "-T", "fields", *fields).splitlines()
    others = [tuple(line.split("\t")) for line in lines]
    records, notices, _ = read_traffic(Bundle("x", {"file": content}))
    assert notices == []
    amounts = {"cflow.packets": records.packets, "cflow.octets": records.octets}
    here = [
        (*ends, "6", str(one), str(other), *(str(int(amounts[name][index])) for name in counted))
        for index, (*ends, _, one, other, _, _) in enumerate(told_here(path))
    ]
    assert here == others
    assert len(others) == 30
