"""The kernel's connection table: as text, as XML, and told as it changed."""

import pytest

from greyheron.analysis.traffic.folding import fold
from greyheron.formats.bundle import Bundle
from greyheron.formats.traffic import read_traffic
from greyheron.model.problems import DocumentError
from tests.unit.test_traffic import CAMHUB, KIOSK, LEDGER, seen_in, told


def test_connection_tables_tell_both_ways() -> None:
    text = (
        f"tcp      6 431999 ESTABLISHED src={KIOSK} dst={LEDGER} sport=50000 dport=443 packets=5 bytes=500 "
        f"src={LEDGER} dst={KIOSK} sport=443 dport=50000 packets=4 bytes=400 [ASSURED] mark=0 use=1\n"
        f"ipv4     2 udp      17 29 src={KIOSK} dst={CAMHUB} sport=1000 dport=53 [UNREPLIED] src={CAMHUB} "
        f"dst={KIOSK} sport=53 dport=1000 mark=0 use=1\n"
        f"icmp     1 29 src={KIOSK} dst={LEDGER} type=8 code=0 id=7 "
        f"src={LEDGER} dst={KIOSK} type=0 code=0 id=7\n"
        "nothing like it\n"
    )
    records, notices, kinds = read_traffic(Bundle("x", {"file": text.encode()}))
    assert kinds == ["a connection table"]
    assert told(fold(records)) == [
        (KIOSK, LEDGER, 6, 443, 9, True),
        (KIOSK, LEDGER, 1, 8, 2, True),
        (KIOSK, CAMHUB, 17, 53, 1, False),
    ]
    assert [notice.where for notice in notices] == ["file, line 4"]


TOTAL = "conntrack v1.4.7 (conntrack-tools): 2 flow entries have been shown.\n"
PAGE = (f"src={KIOSK} dst={LEDGER} sport=50000 dport=443", f"src={LEDGER} dst={KIOSK} sport=443 dport=50000")
NAME = (f"src={KIOSK} dst={CAMHUB} sport=1000 dport=53", f"src={CAMHUB} dst={KIOSK} sport=53 dport=1000")
EVENTS = (
    f"[1700000000.250000]\t    [NEW] tcp      6 120 SYN_SENT {PAGE[0]} [UNREPLIED] {PAGE[1]}\n"
    f"[1700000001.000000]\t [UPDATE] tcp      6 60 SYN_RECV {PAGE[0]} {PAGE[1]}\n"
    f"[1700000002.500000]\t[DESTROY] tcp      6 119 TIME_WAIT {PAGE[0]} packets=6 bytes=330 "
    f"{PAGE[1]} packets=5 bytes=273 [ASSURED]\n"
    f"[1700000003.000000]\t    [NEW] udp      17 30 {NAME[0]} [UNREPLIED] {NAME[1]}\n"
)


def flow_element(state: str, protocol: tuple[int, int, int], counted: tuple[int, int], more: str = "") -> str:
    """A conversation of the kiosk with the ledger as the kernel's table is written in XML."""
    number, own, port = protocol
    ports = f"<sport>{own}</sport><dport>{port}</dport>" if port >= 0 else ""

    def way(direction: str, ends: tuple[str, str], packets: int) -> str:
        counters = f"<counters><packets>{packets}</packets><bytes>{packets * 100}</bytes></counters>"
        return (
            f'<meta direction="{direction}"><layer3 protonum="2" protoname="ipv4"><src>{ends[0]}</src>'
            f'<dst>{ends[1]}</dst></layer3><layer4 protonum="{number}">{ports}</layer4>{counters}</meta>'
        )

    return (
        f"<flow{more}>{way('original', (KIOSK, LEDGER), counted[0])}"
        f"{way('reply', (LEDGER, KIOSK), counted[1])}"
        f'<meta direction="independent">{state}</meta></flow>\n'
    )


def in_xml(*flows: str) -> bytes:
    head = '<?xml version="1.0" encoding="utf-8"?>\n<conntrack>\n'
    return (head + "".join(flows) + "</conntrack>\n").encode()


def test_who_prints_a_connection_table_says_how_much_it_printed() -> None:
    line = f"udp 17 29 {NAME[0]} {NAME[1]}\n"
    for text in (line + TOTAL, TOTAL + line):
        records, notices, kinds = read_traffic(Bundle("x", {"file": text.encode()}))
        assert (len(records), notices, kinds) == (1, [], ["a connection table"])


def test_a_connection_table_told_as_it_changed_is_one_record_for_each_conversation() -> None:
    records, notices, _ = read_traffic(Bundle("x", {"file": EVENTS.encode()}))
    assert notices == []
    seen = fold(records)
    assert told(seen) == [(KIOSK, LEDGER, 6, 443, 11, True), (KIOSK, CAMHUB, 17, 53, 1, False)]
    assert seen.octets.tolist() == [603, 0]
    assert (seen.first[0], seen.last[0]) == (1_700_000_000_250_000_000, 1_700_000_002_500_000_000)
    again = EVENTS.partition("\n")[0] + "\n"
    assert (
        int(seen_in((EVENTS + again + again).encode()).count[0]) == 1
    )  # the same ports, so the same to look at


def test_connection_tables_in_xml() -> None:
    start = "<timestamp><start>1700000000250000000</start></timestamp>"
    content = in_xml(
        flow_element(f"<assured/>{start}", (6, 50000, 443), (5, 4)),
        flow_element("<unreplied/>", (17, 1000, 53), (1, 0)),
        flow_element("", (1, -1, -1), (1, 1)),
        "<flow/>",
    )
    records, notices, kinds = read_traffic(Bundle("x", {"file": content}))
    assert kinds == ["a connection table"]
    seen = fold(records)
    assert told(seen) == [
        (KIOSK, LEDGER, 6, 443, 9, True),
        (KIOSK, LEDGER, 1, 8, 2, True),
        (KIOSK, LEDGER, 17, 53, 1, False),
    ]
    assert (int(seen.octets[0]), int(seen.first[0])) == (900, 1_700_000_000_250_000_000)
    assert [notice.message for notice in notices] == [
        "1 conversations of ICMP do not tell its type: taken for echoes",
        "1 conversations say too little, or what cannot be: left out",
    ]
    cut, cut_notices, _ = read_traffic(Bundle("x", {"file": content[: content.rindex(b"<unreplied") + 5]}))
    assert len(cut) == 1
    assert "breaks off after 1 conversations" in cut_notices[0].message


def test_events_in_xml() -> None:
    steps = (("new", "<unreplied/>", (0, 0)), ("update", "", (0, 0)), ("destroy", "<assured/>", (6, 5)))
    flows = [
        flow_element(state, (6, 50000, 443), counted, f' type="{event}"') for event, state, counted in steps
    ]
    assert told(seen_in(in_xml(*flows))) == [(KIOSK, LEDGER, 6, 443, 11, True)]


def test_xml_that_defines_entities_is_refused() -> None:
    head, entity = '<?xml version="1.0"?>', '<!DOCTYPE conntrack [<!ENTITY a "b">]>'
    for bomb in (f"{head}{entity}<conntrack/>", f"{head}<conntrack>{entity}</conntrack>"):
        with pytest.raises(DocumentError):
            seen_in(bomb.encode())
