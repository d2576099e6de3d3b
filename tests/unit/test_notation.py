"""§11: reading, writing, misreadings, numbering and completion."""

from ipaddress import IPv4Address, IPv6Address, ip_address
from random import Random

import pytest
from hypothesis import given
from hypothesis import strategies as st

from greyheron.formats.listing import read_listing, write_listing
from greyheron.model.document import AccessList
from greyheron.model.entry import (
    AddressBlock,
    AddressTerm,
    Entry,
    IcmpMatch,
    ListBody,
    NamedAddresses,
    NamedPorts,
    NotPort,
    PortSpan,
    PortTerm,
)
from greyheron.model.names import TCP, UDP
from greyheron.model.notation.complete import options_at
from greyheron.model.notation.entries import read_entry
from greyheron.model.notation.flows import read_expected_flow, write_expected_flow
from greyheron.model.notation.line import NotationError, NotationLine
from greyheron.model.notation.lists import read_body, renumbered, write_body
from greyheron.model.notation.quick import read_usual
from greyheron.model.notation.terms import read_address
from greyheron.model.values import Action, Family, ListKind

names = st.from_regex(r"[a-z][a-z0-9-]{0,8}", fullmatch=True)
notes = st.from_regex(r"[a-z][a-z #0-9]{0,12}[a-z]", fullmatch=True)


def blocks(family: Family) -> st.SearchStrategy[AddressBlock]:
    number = st.integers(0, family.every_bit)
    prefixes = st.builds(lambda a, n: AddressBlock.prefix(family, a, n), number, st.integers(0, family.bits))
    if family is Family.IPV6:
        return prefixes
    return prefixes | st.builds(lambda a, mask: AddressBlock(family, a & mask, mask), number, number)


def addresses(family: Family) -> st.SearchStrategy[AddressTerm | None]:
    return st.none() | blocks(family) | st.builds(NamedAddresses, names)


ports = st.integers(0, 65535)
spans = st.builds(lambda a, b: PortSpan(min(a, b), max(a, b)), ports, ports)
port_terms: st.SearchStrategy[tuple[PortTerm, ...]] = (
    st.just(())
    | st.builds(lambda port: (NotPort(port),), ports)
    | st.lists(spans | st.builds(NamedPorts, names), min_size=1, max_size=3).map(tuple)
)


@st.composite
def entries(draw: st.DrawFn, number: int, family: Family, kind: ListKind) -> Entry:
    action = draw(st.sampled_from(Action))
    common = {
        "number": number,
        "action": action,
        "source": draw(addresses(family)),
        "silent": action is Action.DENY and draw(st.booleans()),
        "log": draw(st.booleans()),
        "note": draw(st.none() | notes),
        "remarks": tuple(draw(st.lists(notes, max_size=2))),
    }
    if kind is ListKind.STANDARD:
        return Entry(**common)
    protocol = draw(st.none() | st.sampled_from([TCP, UDP, family.icmp]) | st.integers(0, 255))
    with_ports = protocol in (TCP, UDP)
    icmp = st.builds(IcmpMatch, st.integers(0, 255), st.none() | st.integers(0, 255))
    return Entry(
        **common,
        protocol=protocol,
        destination=draw(addresses(family)),
        source_ports=draw(port_terms) if with_ports else (),
        destination_ports=draw(port_terms) if with_ports else (),
        icmp=draw(st.none() | icmp) if protocol == family.icmp else None,
        established=protocol == TCP and draw(st.booleans()),
    )


@st.composite
def bodies(draw: st.DrawFn) -> tuple[ListBody, Family, ListKind]:
    family, kind = draw(
        st.sampled_from(
            [
                (Family.IPV4, ListKind.STANDARD),
                (Family.IPV4, ListKind.EXTENDED),
                (Family.IPV6, ListKind.EXTENDED),
            ]
        )
    )
    numbers = sorted(draw(st.sets(st.integers(1, 2_147_483_647), max_size=5)))
    body = tuple(draw(entries(number, family, kind)) for number in numbers)
    return ListBody(body, tuple(draw(st.lists(notes, max_size=1)))), family, kind


@given(bodies())
def test_reading_back_what_was_written_gives_the_same_list(case: tuple[ListBody, Family, ListKind]) -> None:
    body, family, kind = case
    assert read_body(write_body(body, family, kind), family, kind) == body


@given(bodies())
def test_renumbering_never_changes_the_order(case: tuple[ListBody, Family, ListKind]) -> None:
    body, family, kind = case
    again = read_body(write_body(renumbered(body), family, kind), family, kind)
    assert [write_body(ListBody((entry,)), family, kind).split(" ", 1)[1] for entry in again.entries] == [
        write_body(ListBody((entry,)), family, kind).split(" ", 1)[1] for entry in renumbered(body).entries
    ]


WORDS = (
    *(
        "10",
        "20",
        "0",
        "99999999999",
        "permit",
        "deny",
        "PERMIT",
        "silently",
        "any",
        "tcp",
        "udp",
        "icmp",
        "6",
    ),
    *(
        "ospf",
        "58",
        "300",
        "echo-request",
        "8/0",
        "from",
        "to",
        "port",
        "any",
        "ANY",
        "172.20.1.1",
        "@a",
        "@",
    ),
    *(
        "172.20.0.0/16",
        "172.20.0.0~0.0.0.254",
        "2001:db8::/32",
        "80",
        "80,443",
        ">=1024",
        "!=5",
        "5-1",
        "https",
    ),
    *("established", "log", "during", "fragment", "dscp", "flags", "syn", "#x", "#"),
)


@given(
    st.lists(st.sampled_from(WORDS), max_size=12),
    st.sampled_from((" ", "  ", "\t", "\u00a0")),
    st.sampled_from(Family),
)
def test_what_is_read_by_one_pass_is_what_is_read_word_by_word(
    words: list[str], gap: str, family: Family
) -> None:
    usual_way(words, gap, family)


@pytest.mark.parametrize("seed", range(40))
def test_so_it_is_for_lines_that_are_nearly_right(seed: int) -> None:
    chance = Random(seed)
    quick = 0
    for _ in range(120):
        icmp = chance.random() < 0.3
        words = [
            chance.choice(WORDS[:2]),
            chance.choice(WORDS[4:6]),
            *(["silently"] * (chance.random() < 0.2)),
        ]
        words += ["icmp", "echo-request"] if icmp else [chance.choice(("tcp", "udp", "any", "6"))]
        for side in ("from", "to"):
            if chance.random() < 0.8:
                words += [side, chance.choice(("any", "172.20.1.1", "172.20.0.0/16", "@a", "2001:db8::/32"))]
                words += ["port", chance.choice(("80", "80,443", ">=1024", "5-1"))] * (chance.random() < 0.3)
        words += [each for each in ("established", "log", "# why") if chance.random() < 0.3]
        if chance.random() < 0.2:
            words.insert(chance.randrange(len(words)), chance.choice(WORDS))
        quick += usual_way(words, " ", Family.IPV4)
    assert quick > 20


SIGNS = "0", "00", "9", "f", ".", ":", "::", " ", "%", "é"
NEARLY = "172.20.1.1", "0.0.0.0", "2001:db8::1", "2001:db8::198.51.100.7", "::", "1:2:3:4:5:6:7::"


@pytest.mark.parametrize("family", Family)
@pytest.mark.parametrize("seed", range(20))
def test_an_address_is_what_the_standard_library_says(seed: int, family: Family) -> None:
    chance = Random(seed)
    for _ in range(200):
        signs = list(chance.choice(NEARLY))
        for _ in range(chance.randrange(4)):
            at = chance.randrange(len(signs) + 1)
            signs[at : at + chance.randrange(2)] = [chance.choice(SIGNS)]
        text = "".join(signs)
        try:
            right = ip_address(text)
        except ValueError:
            right = None
        if right is not None and right.max_prefixlen == family.bits:
            assert read_address(text, family) == int(right), text
        else:
            with pytest.raises(ValueError, match="no"):
                read_address(text, family)


def usual_way(words: list[str], gap: str, family: Family) -> bool:
    """Whether one pass reads it: then word by word it must be the same."""
    text = gap.join(words)
    found = read_usual(text, family)
    if found is None:
        return False
    assert found == read_entry(NotationLine(text), family, ListKind.EXTENDED), text
    return True


def test_the_example_of_the_semantics() -> None:
    text = """
    # visitors may use the web and nothing inside
    10 permit tcp from any to any port 80,443
    20 deny any from any to @inner log
    30 permit icmp echo-request from 10.44.8.0~0.0.0.254 to any
    40 deny silently udp from any port >=1024 to 10.44.9.7 port 53,5353-5360
    50 permit tcp from any to @ledger port @web established   # replies
    """
    body = read_body(text, Family.IPV4, ListKind.EXTENDED)
    assert [entry.number for entry in body.entries] == [10, 20, 30, 40, 50]
    assert body.entries[0].remarks == ("visitors may use the web and nothing inside",)
    assert body.entries[1].log
    assert body.entries[2].icmp == IcmpMatch(8)
    assert body.entries[3].silent
    assert body.entries[4].note == "replies"
    assert body.entries[4].established


WRONG: dict[str, tuple[str, int, int, str]] = {
    "a misspelt action": ("permt tcp", 1, 1, "did you mean “permit”?"),
    "no action": ("10", 1, 4, "ends too early: expected permit, deny"),
    "silently belongs to deny": ("permit silently tcp", 1, 8, "no protocol"),
    "an unknown protocol": ("permit tpc", 1, 8, "“tpc” is no protocol"),
    "a protocol out of range": ("permit 256", 1, 8, "0 to 255"),
    "an address of the other family": ("permit any from 2001:db8::1", 1, 17, "no IPv4 address"),
    "half an address": ("permit any from 172.20.16", 1, 17, "“172.20.16” is no address"),
    "a bare name": ("permit any from ledger", 1, 17, "a name is written @ledger"),
    "an empty name": ("permit any from @", 1, 17, "no name"),
    "a prefix length too long": ("permit any from 172.20.16.0/33", 1, 17, "0 to 32"),
    "no prefix length": ("permit any from 172.20.16.0/", 1, 17, "no prefix length"),
    "bits beyond the prefix": ("permit any from 172.20.16.5/24", 1, 17, "write 172.20.16.0/24"),
    "a broken wildcard": ("permit any from 172.20.16.0~0.0.0", 1, 17, "“0.0.0” is no address"),
    "ports with any": ("permit any from any to any port 80", 1, 28, "ports belong to TCP and UDP"),
    "ports with icmp": ("permit icmp from any port 1", 1, 22, "ports belong to TCP and UDP"),
    "a port too large": ("permit tcp to any port 65536", 1, 24, "ports end at 65535"),
    "an unknown port name": ("permit tcp to any port htp", 1, 24, "“htp” is no port"),
    "a range backwards": ("permit tcp to any port 90-80", 1, 24, "write 80-90"),
    "an empty place in a list": ("permit tcp to any port 80,,443", 1, 24, "empty place"),
    "!= in a list": ("permit tcp to any port 80,!=443", 1, 24, "!= stands alone"),
    "an unknown ICMP name": ("permit icmp echo", 1, 13, "did you mean"),
    "an ICMP type too large": ("permit icmp 300", 1, 13, "end at 255"),
    "established with udp": ("permit udp established", 1, 12, "does not fit"),
    "to before from": ("permit any to any from any", 1, 19, "does not fit"),
    "something at the end": ("permit any log log", 1, 16, "nothing more can follow"),
    "a number twice": ("10 permit any\n10 deny any", 2, 1, "number 10 is already on line 1"),
    "number 0": ("0 permit any", 1, 1, "1 to"),
    "no room between": (
        "10 permit any\npermit tcp\n11 deny any",
        2,
        1,
        "no number is left between 10 and 11",
    ),
}


@pytest.mark.parametrize(("text", "line", "column", "message"), WRONG.values(), ids=WRONG.keys())
def test_a_misreading_names_line_column_and_remedy(text: str, line: int, column: int, message: str) -> None:
    with pytest.raises(NotationError) as caught:
        read_body(text, Family.IPV4, ListKind.EXTENDED)
    found = caught.value.misreadings[0]
    assert (found.line, found.column) == (line, column)
    assert message in found.message


def test_every_misreading_is_told_not_only_the_first() -> None:
    with pytest.raises(NotationError) as caught:
        read_body("permt any\n20 permit any\nallow tcp\n", Family.IPV4, ListKind.EXTENDED)
    assert [found.line for found in caught.value.misreadings] == [1, 3]


NUMBERING = {
    "steps of ten": ("permit tcp\ndeny any", [10, 20]),
    "behind the last": ("10 permit tcp\n45 permit udp\ndeny any", [10, 45, 50]),
    "between two": ("10 permit tcp\npermit udp\n20 deny any", [10, 15, 20]),
    "two between two": ("10 permit tcp\npermit udp\npermit gre\n20 deny any", [10, 13, 16, 20]),
    "before the first": ("permit udp\n10 deny any", [5, 10]),
    "it stays behind the entry it follows": ("30 permit tcp\npermit udp\n10 deny any", [10, 30, 40]),
}


@pytest.mark.parametrize(("text", "numbers"), NUMBERING.values(), ids=NUMBERING.keys())
def test_numbers_that_are_not_given(text: str, numbers: list[int]) -> None:
    body = read_body(text, Family.IPV4, ListKind.EXTENDED)
    assert [entry.number for entry in body.entries] == numbers


@pytest.mark.parametrize(
    ("text", "word", "expected"),
    [
        ("", "", {"10", "permit", "deny"}),
        ("10 ", "", {"permit", "deny"}),
        ("deny ", "", {"silently", "tcp", "any"}),
        ("permit icmp ec", "ec", {"echo-request", "from"}),
        ("permit tcp from ", "", {"any", "@"}),
        ("permit tcp from any ", "", {"port", "to", "established", "log"}),
        ("permit udp to any po", "po", {"port", "log"}),
        ("permit tcp to any port ", "", {"https", ">=1024"}),
    ],
)
def test_completion_offers_what_could_stand_there(text: str, word: str, expected: set[str]) -> None:
    found, options = options_at(lambda line: read_entry(line, Family.IPV4, ListKind.EXTENDED), text)
    assert found == word
    assert expected <= {option.text for option in options}
    assert all(option.explains for option in options)


FLOWS = [
    "kiosk → ledger tcp/443 pass",
    "kiosk:eth0 → 172.20.40.10 udp/53 block",
    "sluice:172.20.255.2 → ledger:eth0 ping pass",
    "kiosk → ledger web source-port 1024 block",
    "kiosk → 198.51.100.80 icmp/13 pass",
    "kiosk → ledger web source-port 80 ipv6 block",
]


@pytest.mark.parametrize("text", FLOWS)
def test_flows_read_back_as_written(text: str) -> None:
    assert write_expected_flow(read_expected_flow(text)) == text
    assert read_expected_flow(text.replace("→", "->")) == read_expected_flow(text)


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("kiosk ledger tcp/443 pass", "expected →"),
        (
            "kiosk → ledger tcp/443",
            "expected source-port, flags, fragment, dscp, at, ipv4, ipv6, pass, block",
        ),
        ("kiosk → ledger tcp/99999 pass", "ports end at 65535"),
        ("172.20.1.1 → ledger ping pass", "names no device"),
        ("kiosk → led/ger ping pass", "neither a device nor an address"),
        ("kiosk → ledger protocol/300 pass", "end at 255"),
        ("kiosk → ledger tcp pass", "no service"),
        ("kiosk → ledger ping passes", "did you mean “pass”?"),
    ],
)
def test_flows_that_cannot_be_read(text: str, message: str) -> None:
    with pytest.raises(NotationError, match="line 1"):
        read_expected_flow(text)
    with pytest.raises(NotationError) as caught:
        read_expected_flow(text)
    assert message in caught.value.misreadings[0].message


named_lists = st.lists(
    st.tuples(names, bodies(), st.just("") | notes), max_size=3, unique_by=lambda item: item[0]
)


@given(st.integers(0, 2**32 - 1), st.integers(0, 2**128 - 1), st.integers(0, 128), st.integers(0, 2**128 - 1))
def test_addresses_are_written_as_the_rfcs_have_them(four: int, six: int, length: int, zeros: int) -> None:
    assert Family.IPV4.text(four) == str(IPv4Address(four))
    mapped = 0xFFFF << 32 | four
    for address in (six, six >> length, six & zeros, mapped, mapped >> 16, four, 0):
        assert Family.IPV6.text(address) == str(IPv6Address(address))


@pytest.mark.long
@given(named_lists)
def test_list_files_read_back_as_written(
    items: list[tuple[str, tuple[ListBody, Family, ListKind], str]],
) -> None:
    lists = tuple(
        AccessList(name=name, family=family, kind=kind, note=note, body=body)
        for name, (body, family, kind), note in items
    )
    assert read_listing(write_listing(lists)) == lists


def test_every_misreading_of_a_list_file_has_its_line_in_the_file() -> None:
    first = "permit any\nlist a ipv4 standard\npermit any\nfoo\n"
    text = first + "list a ipv6 standard\nlist 9 ipv4\nlist a ipv4 extended"
    with pytest.raises(NotationError) as raised:
        read_listing(text)
    assert [(each.line, each.column) for each in raised.value.misreadings] == [
        (1, 1),
        (4, 1),
        (5, 13),
        (6, 6),
        (7, 6),
    ]
