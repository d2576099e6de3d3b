"""Traffic that was there: read from every kind of record, folded, and judged as the walk would."""

import gzip
import json
import struct
from datetime import UTC, datetime, timedelta
from ipaddress import ip_address
from random import Random
from typing import Any
from zoneinfo import ZoneInfo

import pytest

from greyheron.analysis.traffic.folding import SeenTraffic, fold
from greyheron.analysis.traffic.judging import Impossibility, judge, odd, parties_of
from greyheron.analysis.traffic.packing import packed, unpacked
from greyheron.analysis.traffic.records import RecordRow, gathered
from greyheron.analysis.traffic.timestamps import times_of, whenever
from greyheron.analysis.traffic.told import letting_through, rows_of
from greyheron.core.bulk.engine import VERDICT_ORDER
from greyheron.core.bulk.engines import engines
from greyheron.core.timeline import Timeline
from greyheron.core.walk.conversation import converse
from greyheron.demo.networks import saltmarsh
from greyheron.formats.bundle import Bundle, bundle_of
from greyheron.formats.traffic import read_traffic
from greyheron.model.document import AccessList
from greyheron.model.names import TCP
from greyheron.model.notation.flows import read_bare_flow
from greyheron.model.notation.periods import read_moment
from greyheron.model.notation.requirements import read_requirement
from greyheron.model.problems import DocumentError
from greyheron.rehearsal.packets import Captured
from greyheron.rehearsal.pcapng import write_captures

KIOSK, LEDGER, CAMHUB = "172.20.16.21", "172.20.40.10", "172.20.48.5"
SYN, SYN_ACK, ACK = 0x02, 0x12, 0x10


def ip4(source: str, destination: str, protocol: int, behind: bytes, fragment: int = 0) -> bytes:
    ends = ip_address(source).packed + ip_address(destination).packed
    return struct.pack("!BBHHHBBH", 0x45, 0, 20 + len(behind), 0, fragment, 64, protocol, 0) + ends + behind


def ip6(source: str, destination: str, protocol: int, behind: bytes) -> bytes:
    ends = ip_address(source).packed + ip_address(destination).packed
    return struct.pack("!IHBB", 6 << 28, len(behind), protocol, 64) + ends + behind


def tcp(source: int, destination: int, flags: int) -> bytes:
    return struct.pack("!HHIIBBHHH", source, destination, 1, 1, 0x50, flags, 0, 0, 0)


def ethernet(packet: bytes, tags: tuple[int, ...] = ()) -> bytes:
    kind = b"\x86\xdd" if packet[0] >> 4 == 6 else b"\x08\x00"
    return b"\2" * 12 + b"".join(b"\x81\0" + struct.pack("!H", tag) for tag in tags) + kind + packet


def pcap(*frames: bytes, order: str = "<", nanoseconds: bool = False, link: int = 1) -> bytes:
    magic = 0xA1B23C4D if nanoseconds else 0xA1B2C3D4
    found = struct.pack(f"{order}IHHiIII", magic, 2, 4, 0, 0, 65535, link)
    for number, frame in enumerate(frames):
        found += struct.pack(f"{order}IIII", 1_700_000_000 + number, 7, len(frame), len(frame)) + frame
    return found


def seen_in(content: bytes, **columns: str) -> SeenTraffic:
    return fold(read_traffic(Bundle("x", {"file": content}), columns)[0])


def told(seen: SeenTraffic) -> list[tuple[str, str, int, int, int, bool]]:
    """Source, destination, protocol, port, packets, answered."""
    return [
        (
            str(ip_address(seen.addresses[seen.source[at]][1])),
            str(ip_address(seen.addresses[seen.destination[at]][1])),
            int(seen.protocol[at]),
            int(seen.port[at]),
            int(seen.packets[at]),
            bool(seen.answered[at]),
        )
        for at in range(len(seen))
    ]


CONVERSATION = (
    ethernet(ip4(KIOSK, LEDGER, 6, tcp(50000, 443, SYN))),
    ethernet(ip4(LEDGER, KIOSK, 6, tcp(443, 50000, SYN_ACK))),
    ethernet(ip4(KIOSK, LEDGER, 6, tcp(50000, 443, ACK))),
)


@pytest.mark.parametrize(
    "content",
    [
        pcap(*CONVERSATION),
        pcap(*CONVERSATION, order=">"),
        pcap(*CONVERSATION, nanoseconds=True),
        pcap(*(frame[14:] for frame in CONVERSATION), link=101),
        pcap(*(b"\0\0\0\1\0\6" + b"\2" * 8 + frame[12:] for frame in CONVERSATION), link=113),
        pcap(*(ethernet(frame[14:], (56, 57)) for frame in CONVERSATION)),
    ],
    ids=["little", "big", "nanoseconds", "raw", "cooked", "tagged"],
)
def test_captures_of_every_make_hold_the_same(content: bytes) -> None:
    seen = seen_in(content)
    assert told(seen) == [(KIOSK, LEDGER, 6, 443, 3, True)]
    assert (int(seen.count[0]), int(seen.source_port[0])) == (1, 50000)
    assert 1_700_000_000 <= seen.first[0] / 1e9 < 1_700_000_001
    assert 1_700_000_002 <= seen.last[0] / 1e9 < 1_700_000_003


def test_pcapng_is_read_as_it_is_written(tmp_path: Any) -> None:
    captured = [
        Captured("kiosk", "i0", False, 1_700_000_000_000_000_000 + number, frame)
        for number, frame in enumerate(CONVERSATION)
    ]
    write_captures(tmp_path / "x.pcapng", captured)
    seen = seen_in((tmp_path / "x.pcapng").read_bytes())
    assert told(seen) == [(KIOSK, LEDGER, 6, 443, 3, True)]


def test_headers_of_ipv6_fragments_and_icmp_are_seen_through() -> None:
    one, other = "2001:db8:16::21", "2001:db8:40::10"
    hopping = bytes([6, 0, 0, 0, 0, 0, 0, 0]) + tcp(50000, 80, SYN)
    later = bytes([6, 0, 0, 8, 0, 0, 0, 1]) + b"not a header"
    about = struct.pack("!BBHI", 3, 13, 0, 0)
    content = pcap(
        ethernet(ip6(one, other, 0, hopping)),
        ethernet(ip6(one, other, 44, later)),
        ethernet(ip4(KIOSK, LEDGER, 17, b"again" * 3, fragment=0x00B9)),
        ethernet(ip4(KIOSK, LEDGER, 1, struct.pack("!BBHHH", 8, 0, 0, 1, 1))),
        ethernet(ip4(LEDGER, KIOSK, 1, struct.pack("!BBHHH", 0, 0, 0, 1, 1))),
        ethernet(ip4("172.20.16.1", KIOSK, 1, about)),
        b"\2" * 12 + b"\x08\x06" + b"\0" * 28,
    )
    records, notices, _ = read_traffic(Bundle("x", {"file": content}))
    seen = fold(records)
    assert sorted(told(seen)) == sorted(
        [
            (KIOSK, LEDGER, 1, 8, 2, True),
            (KIOSK, LEDGER, 17, -1, 1, False),
            (one, other, 6, -1, 1, False),
            (one, other, 6, 80, 1, False),
        ]
    )
    assert seen.errors == 1
    assert [notice.message for notice in notices] == ["1 of 7 frames hold no IP packet: left out"]


def test_who_began_is_told_by_a_syn_or_else_by_ports() -> None:
    late = pcap(*CONVERSATION[1:])
    assert told(seen_in(late)) == [(KIOSK, LEDGER, 6, 443, 2, True)]
    swapped = pcap(
        ethernet(ip4(LEDGER, KIOSK, 6, tcp(443, 50000, ACK))),
        ethernet(ip4(KIOSK, LEDGER, 6, tcp(50000, 443, SYN))),
    )
    assert told(seen_in(swapped)) == [(KIOSK, LEDGER, 6, 443, 2, False)]  # nothing shows that it was heard
    strange = pcap(ethernet(ip4(LEDGER, KIOSK, 6, tcp(443, 50000, SYN))))
    assert told(seen_in(strange)) == [(LEDGER, KIOSK, 6, 50000, 1, False)]


def test_captures_that_break_off_are_read_as_far_as_they_go() -> None:
    whole = pcap(*CONVERSATION)
    for cut in range(24, len(whole), 7):
        records, notices, _ = read_traffic(Bundle("x", {"file": whole[:cut]}))
        assert len(records) <= 3
        assert all("breaks off in packet" in notice.message for notice in notices)
    with pytest.raises(DocumentError, match="breaks off in its header"):
        seen_in(whole[:20])
    with pytest.raises(DocumentError, match="links of the kind 105 are not read"):
        seen_in(pcap(link=105))


def test_compressed_captures_that_break_off_are_read_as_far_as_they_go() -> None:
    chance = Random(3)
    frames = [ethernet(ip4(KIOSK, LEDGER, 17, chance.randbytes(60))) for _ in range(200)]
    packed = gzip.compress(pcap(*frames))
    records, notices, kinds = read_traffic(bundle_of("x.pcap.gz", packed))
    assert (len(records), notices, kinds) == (200, [], ["a packet capture"])
    cut, said, _ = read_traffic(bundle_of("x.pcap.gz", packed[: len(packed) // 2]))
    assert 50 < len(cut) < 150
    assert "it is compressed, and breaks off" in said[0].message
    rows = "".join(f"{KIOSK},{LEDGER},tcp,{chance.randrange(10_000, 60_000)}\n" for _ in range(2000))
    table = gzip.compress(f"src,dst,proto,dport\n{rows}".encode())
    few, said, _ = read_traffic(bundle_of("x.csv.gz", table[: len(table) // 2]))
    assert 100 < len(few) < 2000
    assert (few.destination_port >= 10_000).all()  # half of a number is another one
    assert len(said) == 1


def test_tables_are_read_whatever_their_columns_are_called() -> None:
    plain = "source,destination,protocol,source_port,destination_port,packets,bytes,start\n"
    plain += (
        f"{KIOSK},{LEDGER},tcp,50000,https,9,900,2026-11-26T06:30:00\n{LEDGER},{KIOSK},6,443,50000,8,800,\n"
    )
    assert told(seen_in(plain.encode())) == [(KIOSK, LEDGER, 6, 443, 17, True)]
    named = f"client;server;prot;dport\n{KIOSK};{LEDGER};udp;53\n"
    columns = {"source": "client", "destination": "server", "protocol": "prot"}
    assert told(seen_in(named.encode(), **columns)) == [(KIOSK, LEDGER, 17, 53, 1, False)]
    lines = json.dumps(
        {"src": KIOSK, "dst": LEDGER, "proto": 6, "dport": 80, "back": 3, "time": 1_700_000_000}
    )
    seen = seen_in(f"{lines}\n".encode())
    assert told(seen) == [(KIOSK, LEDGER, 6, 80, 4, True)]
    assert seen.first[0] == 1_700_000_000_000_000_000


@pytest.mark.parametrize(
    ("column", "value", "seconds"),
    [
        ("start", "1700000000.25", 0.25),
        ("start", "1700000000250", 0.25),
        ("start", "1700000000250000", 0.25),
        ("start", "1700000000250000000", 0.25),
        ("flowStartMicroseconds", "1700000000250000", 0.25),
        ("flowStartNanoseconds", "1700000000250000000", 0.25),
        ("flowStartMilliseconds", "1700000000250", 0.25),
        ("flowStartMicroseconds", "2023-11-14T22:13:20.250000Z", 0.25),
        ("start", "2023-11-14T23:13:20.25+01:00", 0.25),
        ("start", "2023-11-14 22:13:20.25", 0.25),
        ("systemInitTimeMilliseconds,flowStartSysUpTime", "1699999999000,1250", 0.25),
    ],
)
def test_times_in_tables_are_of_the_unit_that_they_say(column: str, value: str, seconds: float) -> None:
    found = seen_in(f"src,dst,proto,dport,{column}\n{KIOSK},{LEDGER},tcp,443,{value}\n".encode())
    assert found.first[0] == 1_700_000_000 * 10**9 + int(seconds * 10**9)


def test_tables_may_hold_both_families_and_count_both_ways() -> None:
    head = (
        "sourceIPv4Address,destinationIPv4Address,sourceIPv6Address,destinationIPv6Address,protocolIdentifier"
    )
    head += ",destinationTransportPort,initiatorOctets,responderOctets,initiatorPackets,responderPackets\n"
    text = (
        head
        + f"{KIOSK},{LEDGER},,,6,443,900,800,9,8\n0.0.0.0,0.0.0.0,2001:db8::1,2001:db8::2,6,80,90,0,1,0\n"
    )
    seen = seen_in(text.encode())
    assert told(seen) == [
        (KIOSK, LEDGER, 6, 443, 17, True),
        ("2001:db8::1", "2001:db8::2", 6, 80, 1, False),
    ]
    assert seen.octets.tolist() == [1700, 90]


def test_tables_that_break_off_within_a_letter_are_read_as_far_as_they_go() -> None:
    text = f"src,dst,proto,dport,note\n{KIOSK},{LEDGER},tcp,443,Bläßhuhn\n{KIOSK},{LEDGER},tcp,80,Bläßhuhn\n"
    whole = text.encode()
    cut = whole[: whole.rindex("ß".encode()) + 1]
    records, notices, _ = read_traffic(Bundle("x", {"file": cut}))
    assert len(records) == 1
    assert "breaks off in its last row" in notices[0].message
    with pytest.raises(DocumentError, match="it is no UTF-8 text"):
        seen_in(whole.replace("ß".encode(), b"\xff"))


def test_rows_that_cannot_be_read_are_named_and_the_rest_is_kept() -> None:
    text = (
        "src,dst,proto,dport\n"
        + f"{KIOSK},{LEDGER},tcp,443\nx,{LEDGER},tcp,443\n{KIOSK},{LEDGER},tcp,70000\n"
    )
    text += f"{KIOSK},2001:db8::1,tcp,443\n{KIOSK},{LEDGER},sheep,1\n"
    records, notices, _ = read_traffic(Bundle("x", {"file": text.encode()}))
    assert len(records) == 1
    assert [notice.where for notice in notices] == [f"file, line {number}" for number in (3, 4, 5, 6)]
    assert "“70000” is no port" in notices[1].message
    with pytest.raises(DocumentError, match="no column holds the source"):
        seen_in(b"a,b,c\n1,2,3\n")


def ipfix(*sets: tuple[int, bytes]) -> bytes:
    body = b"".join(struct.pack("!HH", kind, 4 + len(inside)) + inside for kind, inside in sets)
    return struct.pack("!HHIII", 10, 16 + len(body), 1_700_000_000, 0, 1) + body


def template(number: int, *elements: tuple[int, int]) -> tuple[int, bytes]:
    told_elements = b"".join(
        struct.pack("!HHI", -element | 0x8000, length, 29305)
        if element < 0
        else struct.pack("!HH", element, length)
        for element, length in elements
    )
    return 2, struct.pack("!HH", number, len(elements)) + told_elements


def test_ipfix_is_read_by_its_templates() -> None:
    elements = ((8, 4), (12, 4), (4, 1), (7, 2), (11, 2), (2, 4), (1, 8), (152, 8), (82, 0xFFFF))
    record = (
        ip_address(KIOSK).packed
        + ip_address(LEDGER).packed
        + struct.pack("!BHHIQQ", 6, 50000, 443, 9, 900, 1_700_000_000_123)
    )
    name = b"\4eth0"
    content = ipfix(template(256, *elements), (256, record + name)) + ipfix(
        (256, record + name), (999, b"\0" * 8)
    )
    records, notices, kinds = read_traffic(Bundle("x", {"file": content}))
    assert kinds == ["flow records"]
    seen = fold(records)
    assert told(seen) == [(KIOSK, LEDGER, 6, 443, 18, False)]
    assert seen.first[0] == 1_700_000_000_123_000_000
    assert "1 sets have no templates" in notices[0].message
    with pytest.raises(DocumentError, match="no IPFIX message begins here"):
        seen_in(content + b"\0\11" + b"\xff" * 20)


def flow(
    *values: tuple[int, int, int], domain_at: int = 1_700_000_000, before: tuple[tuple[int, bytes], ...] = ()
) -> bytes:
    """A file with one record; of each element its number (negative: of the way back), length and value."""
    body = b"".join(value.to_bytes(length, "big") for _, length, value in values)
    sets = (*before, template(300, *((number, length) for number, length, _ in values)), (300, body))
    content = bytearray(ipfix(*sets))
    content[4:8] = domain_at.to_bytes(4, "big")
    return bytes(content)


def address(text: str) -> int:
    return int(ip_address(text))


ENDS = ((8, 4, address(KIOSK)), (12, 4, address(LEDGER)))
ENDS6 = ((27, 16, address("2001:db8:16::21")), (28, 16, address("2001:db8:40::10")))
NO_ENDS, NO_ENDS6 = ((8, 4, 0), (12, 4, 0)), ((27, 16, 0), (28, 16, 0))
ABOUT = ((4, 1, 6), (7, 2, 50000), (11, 2, 443))
AT = 1_700_000_000


def ntp(seconds: int, part: int) -> int:
    return seconds + 2_208_988_800 << 32 | part


@pytest.mark.parametrize(
    ("elements", "source"),
    [
        ((*ENDS, *NO_ENDS6), KIOSK),
        ((*NO_ENDS, *ENDS6), "2001:db8:16::21"),
        ((*NO_ENDS6, *ENDS), KIOSK),
        ((*ENDS, *ENDS6, (60, 1, 4)), KIOSK),
        ((*ENDS, *ENDS6, (60, 1, 6)), "2001:db8:16::21"),
    ],
)
def test_templates_may_hold_addresses_of_both_families(
    elements: tuple[tuple[int, int, int], ...], source: str
) -> None:
    found = told(seen_in(flow(*elements, *ABOUT)))
    assert [(each[0], each[3]) for each in found] == [(source, 443)]


@pytest.mark.parametrize(
    ("elements", "packets", "octets", "answered"),
    [
        (((2, 4, 9), (1, 4, 900)), 9, 900, False),
        (((86, 4, 9), (85, 8, 900)), 9, 900, False),
        (((2, 4, 9), (1, 4, 900), (-2, 4, 8), (-1, 4, 800)), 17, 1700, True),
        (((86, 4, 9), (85, 4, 900), (-86, 4, 8), (-85, 4, 800)), 17, 1700, True),
        (((298, 8, 9), (231, 8, 900), (299, 8, 8), (232, 8, 800)), 17, 1700, True),
        (((298, 8, 9), (231, 8, 900), (299, 8, 0), (232, 8, 0)), 9, 900, False),
    ],
)
def test_counters_of_both_ways_are_added(
    elements: tuple[tuple[int, int, int], ...], packets: int, octets: int, answered: bool
) -> None:
    seen = seen_in(flow(*ENDS, *ABOUT, *elements))
    assert (int(seen.packets[0]), int(seen.octets[0]), bool(seen.answered[0])) == (packets, octets, answered)


STARTED = (
    (3, struct.pack("!HHHHHHH", 400, 2, 1, 149, 4, 160, 8)),
    (400, struct.pack("!IQ", 1, (AT - 60) * 1000)),
)


@pytest.mark.parametrize(
    ("elements", "before", "first", "last"),
    [
        (((150, 4, AT), (151, 4, AT + 5)), (), 0, 5 * 10**9),
        (((152, 8, AT * 1000 + 1), (153, 8, AT * 1000 + 9)), (), 10**6, 9 * 10**6),
        (((154, 8, ntp(AT, 1 << 31)), (155, 8, ntp(AT + 1, 1 << 30 | 0x7FF))), (), 5 * 10**8, 1_250_000_000),
        (((156, 8, ntp(AT, 1 << 31)), (157, 8, ntp(AT + 1, 1 << 30))), (), 5 * 10**8, 1_250_000_000),
        (((158, 4, 7_000_000), (159, 4, 1_000_000)), (), -7 * 10**9, -(10**9)),
        (((22, 4, 61_000), (21, 4, 62_000)), STARTED, 10**9, 2 * 10**9),
        (((22, 4, 61_000), (21, 4, 62_000), (160, 8, (AT - 60) * 1000)), (), 10**9, 2 * 10**9),
        (((152, 8, AT * 1000), (161, 4, 2500)), (), 0, 2_500_000_000),
        (((153, 8, AT * 1000), (162, 4, 2500)), (), -2_500_000, 0),
        (((323, 8, AT * 1000),), (), 0, 0),
    ],
)
def test_times_are_told_by_every_clock_there_is(
    elements: tuple[tuple[int, int, int], ...], before: tuple[tuple[int, bytes], ...], first: int, last: int
) -> None:
    seen = seen_in(flow(*ENDS, *ABOUT, *elements, domain_at=AT, before=before))
    assert (int(seen.first[0]) - AT * 10**9, int(seen.last[0]) - AT * 10**9) == (first, last)


def test_times_since_nobody_knows_when_are_none_and_that_is_said() -> None:
    content = flow(*ENDS, *ABOUT, (22, 4, 61_000), (21, 4, 62_000))
    records, notices, _ = read_traffic(Bundle("x", {"file": content}))
    assert records.first.tolist() == [0]
    assert "1 records tell times by how long their exporter had run" in notices[0].message


def test_flow_files_that_break_off_are_read_as_far_as_they_go() -> None:
    whole = flow(*ENDS, *ABOUT) + flow(*ENDS, *ABOUT)
    for cut in range(20, len(whole)):
        records, notices, _ = read_traffic(Bundle("x", {"file": whole[:cut]}))
        assert len(records) <= 2
        assert cut == len(whole) // 2 or "breaks off in a message" in notices[0].message
    early = flow(*ENDS, *ABOUT)
    data, learnt = early[-17:], early[16:-17]
    swapped = early[:16] + data + learnt
    assert len(read_traffic(Bundle("x", {"file": swapped}))[0]) == 1


def test_what_was_there_is_judged_as_the_walk_judges_it() -> None:
    """Random conversations between everybody, in three states, against the walk one by one."""
    network = saltmarsh()
    world = Timeline.build(network).first
    chance = Random(7)
    hosts = ["172.20.16.21", "172.20.16.77", "172.20.16.99", "172.20.40.20", "172.20.48.5", "172.20.57.20"]
    goals = ["172.20.40.10", "172.20.48.5", "172.20.72.10", "198.51.100.80", "172.20.255.2", "172.20.16.30"]
    rows = [
        RecordRow(
            False, int(ip_address(chance.choice(hosts))), int(ip_address(chance.choice(goals))), TCP,
            49152, chance.choice([22, 23, 80, 443, 554]),
        )
        for _ in range(150)
    ]  # fmt: skip
    seen = fold(gathered(rows))
    parties = parties_of(seen, world)
    states = judge(seen, parties, whenever(seen, world.baseline, world, world), engines())
    told_rows = rows_of(seen, parties, states, odd(seen, parties, states[1]), world)
    assert len(told_rows) > 60
    for row in told_rows:
        assert row.flow is not None
        assert row.draft == converse(world, read_bare_flow(row.flow)).verdict, row.flow
        assert row.baseline == VERDICT_ORDER[states[0].verdict[row.index]]
        assert row.statement is not None
        read_requirement(row.statement)
    assert any(row.decided and (", entry " in row.decided or "implicit" in row.decided) for row in told_rows)


def test_what_cannot_be_is_told_with_why() -> None:
    world = Timeline.build(saltmarsh()).first
    ends = [
        ("172.23.77.1", LEDGER, 0, Impossibility.NOBODY_SENDS),
        (KIOSK, "224.0.0.251", 0, Impossibility.NO_UNICAST),
        (KIOSK, "172.23.77.1", 0, Impossibility.NOBODY_THERE),
        ("172.20.40.20", CAMHUB, 3, Impossibility.ANSWERED),
        (KIOSK, LEDGER, 3, None),
    ]
    rows = [
        RecordRow(False, int(ip_address(one)), int(ip_address(other)), TCP, 50000, 443, back=back)
        for one, other, back, _ in ends
    ]
    seen = fold(gathered(rows))
    parties = parties_of(seen, world)
    (now,) = judge(seen, parties, whenever(seen, world), engines())
    found = dict(zip([each[:2] for each in told(seen)], odd(seen, parties, now), strict=True))
    assert found == {(one, other): why for one, other, _, why in ends}
    rows_told = rows_of(seen, parties, (now, now, now), odd(seen, parties, now), world)
    assert {row.source for row in rows_told if row.flow is None} == {"172.23.77.1", KIOSK}


def test_what_was_seen_is_kept_as_bytes() -> None:
    six = int(ip_address("2001:db8:16::21"))
    rows = [
        RecordRow(False, int(ip_address(KIOSK)), int(ip_address(LEDGER)), TCP, 50000, 443, back=2, first=7),
        RecordRow(True, six, six + 1, TCP, 50001, 22, octets=99),
    ]
    seen = fold(gathered(rows))
    back = unpacked(packed(seen))
    assert (back.addresses, back.errors, told(back)) == (seen.addresses, seen.errors, told(seen))
    assert [*back.first] == [*seen.first]


def test_each_conversation_is_judged_when_it_was_there() -> None:
    """The hides are open to visitors by day, by the network's own clock."""
    network = saltmarsh().model_copy(update={"time_zone": "Asia/Kolkata"})
    opens = datetime(2026, 7, 7, 8, tzinfo=ZoneInfo("Asia/Kolkata"))
    moments = [
        (opens, "passes"),
        (opens.astimezone(UTC), "passes"),
        (opens - timedelta(minutes=1), "blocked"),
        (opens + timedelta(hours=10), "blocked"),
        (None, "blocked"),
    ]
    visitors = [f"172.20.16.{100 + each}" for each in range(len(moments))]
    rows = [
        RecordRow(
            False, int(ip_address(visitor)), int(ip_address(CAMHUB)), TCP, 50000, 443,
            first=0 if moment is None else int(moment.timestamp()) * 10**9,
        )
        for visitor, (moment, _) in zip(visitors, moments, strict=True)
    ]  # fmt: skip
    seen = fold(gathered(rows))
    timeline = Timeline.build(network)
    parties = parties_of(seen, timeline.first)
    (now,) = judge(seen, parties, times_of(seen, [timeline]), engines())
    found = {one: VERDICT_ORDER[now.verdict[at]] for at, (one, *_) in enumerate(told(seen))}
    assert found == {visitor: verdict for visitor, (_, verdict) in zip(visitors, moments, strict=True)}
    by_day = Timeline.build(network, read_moment("tue 12:00"))
    (shown,) = judge(seen, parties, times_of(seen, [by_day]), engines())
    assert shown.passes().all()


@pytest.mark.parametrize("seed", range(20))
def test_entries_let_just_through_what_was_there(seed: int) -> None:
    chance = Random(seed)
    rows = [
        RecordRow(
            False, 0xAC14_1000 + chance.randrange(16), 0xAC14_2800 + chance.randrange(8), TCP, 49152,
            chance.choice([80, 443]),
        )
        for _ in range(30)
    ]  # fmt: skip
    seen = fold(gathered(rows))
    there = {(row.source, row.destination, row.destination_port) for row in rows}
    exact, few = letting_through(seen, range(len(seen)))
    for found, more in ((exact, 0), (few, few.more)):
        text = "\n".join(found.entries)
        list_ = AccessList.model_validate(
            {"name": "x", "family": "ipv4", "kind": "extended", "entries": text}
        )
        through = set()
        for entry in list_.body.entries:
            for source in range(entry.source.first, entry.source.last + 1):  # type: ignore[union-attr]
                for other in range(entry.destination.first, entry.destination.last + 1):  # type: ignore[union-attr]
                    through.add((source, other, entry.destination_ports[0].low))  # type: ignore[union-attr]
        assert through >= there
        assert len(through - there) == more
    assert len(few.entries) <= len(exact.entries)


@pytest.mark.parametrize("seed", range(40))
def test_whatever_is_broken_ends_in_words(seed: int) -> None:
    chance = Random(seed)
    whole = chance.choice(
        [
            pcap(*CONVERSATION),
            ipfix(template(256, (8, 4), (12, 4), (4, 1)), (256, b"\1" * 27)),
            b"src,dst,proto\n1,2,3\n",
        ]
    )
    for _ in range(50):
        content = bytearray(whole)
        for _ in range(chance.randrange(1, 6)):
            content[chance.randrange(4, len(content))] = chance.randrange(256)
        cut = chance.randrange(4, len(content) + 1)
        try:
            seen = fold(read_traffic(Bundle("x", {"file": bytes(content[:cut])}))[0])
        except DocumentError:
            continue
        assert len(seen) <= 10


def test_numbers_that_cannot_be_are_bounded() -> None:
    huge = "9" * 17
    assert seen_in(f"src,dst,proto,dport,packets,start\n{KIOSK},{LEDGER},tcp,443,{huge},9e18\n".encode())
    line = (
        f"tcp 6 9 src={KIOSK} dst={LEDGER} sport=1 dport=2 packets={'9' * 40} bytes={'9' * 40} src={LEDGER} "
    )
    line += f"dst={KIOSK} sport=2 dport=1 packets={'9' * 40} bytes=1\n"
    assert seen_in(line.encode()).packets[0] > 0
    section = struct.pack("<IIIHHqI", 0x0A0D0D0A, 28, 0x1A2B3C4D, 1, 0, -1, 28)
    port = struct.pack("<IIHHII", 1, 20, 1, 0, 65535, 20)
    frame = CONVERSATION[0] + b"\0" * (-len(CONVERSATION[0]) % 4)
    head = struct.pack("<IIIIIII", 6, 32 + len(frame), 0, 0xFFFFFFFF, 0xFFFFFFFF, len(CONVERSATION[0]), 60)
    packet = head + frame + struct.pack("<I", 32 + len(frame))
    assert told(seen_in(section + port + packet)) == [(KIOSK, LEDGER, 6, 443, 1, False)]
    assert len(fold(gathered(()))) == 0
