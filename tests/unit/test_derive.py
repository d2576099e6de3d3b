"""Test flows made of others, tables of test flows, and where two traces part."""

import pytest

from greyheron.analysis.presentation.compare import parting
from greyheron.analysis.testing.derive import Derivation, derive
from greyheron.core.walk.addressing import FlowError
from greyheron.core.world import build_world
from greyheron.demo.networks import saltmarsh
from greyheron.formats.tests_csv import read_tests, write_tests
from greyheron.model.notation.flows import read_expected_flow, write_expected_flow
from greyheron.model.problems import DocumentError
from tests.cases import traced
from tests.lab import Lab

WORLD = build_world(saltmarsh())


@pytest.mark.parametrize(
    ("flow", "how", "made"),
    [
        ("kiosk → ledger web pass", "mirror", ["ledger → kiosk tcp/443 pass"]),
        ("kiosk:eth0 → sluice:lo0 ping block", "mirror", ["sluice:lo0 → kiosk:eth0 ping block"]),
        ("kiosk → 172.20.40.10 udp/514 pass", "mirror", ["ledger:172.20.40.10 → kiosk udp/514 pass"]),
        ("kiosk → ledger protocol/47 pass", "mirror", ["ledger → kiosk protocol/47 pass"]),
        ("kiosk → 172.20.40.99/24 tcp/1 pass", "mirror", ["172.20.40.99/24 → kiosk tcp/1 pass"]),
        ("kiosk → ledger web pass", "other family", ["kiosk → ledger web ipv6 pass"]),
        ("kiosk → ledger web ipv6 block", "other family", ["kiosk → ledger web ipv4 block"]),
        ("kiosk → ledger web pass", "segment", ["guest → ledger web pass", "till → ledger web pass"]),
    ],
)
def test_test_flows_are_made_of_others(flow: str, how: str, made: list[str]) -> None:
    found = derive(WORLD, read_expected_flow(flow), Derivation(how))
    assert [write_expected_flow(each) for each in found] == made


@pytest.mark.parametrize(
    ("flow", "how", "why"),
    [
        ("kiosk → 172.20.99.9 ping pass", "mirror", "belongs to no device"),
        ("kiosk → camhub web pass", "other family", "camhub has no IPv6 address"),
        ("kiosk → 172.20.40.10 ping pass", "other family", "is an address"),
        ("wardens-desk → ledger web pass", "segment", "no other host"),
    ],
)
def test_what_cannot_be_made_says_why(flow: str, how: str, why: str) -> None:
    with pytest.raises(FlowError, match=why):
        derive(WORLD, read_expected_flow(flow), Derivation(how))


def test_a_table_of_test_flows_reads_back_as_written() -> None:
    tests = saltmarsh().tests
    assert read_tests(write_tests(tests)) == tests


def test_a_table_is_read_as_people_write_it() -> None:
    text = '\ufeffNote,Flow,Group\n"why, though","kiosk -> ledger web  pass",Doors\n,,\n'
    (found,) = read_tests(text, taken=["t1"])
    assert (found.id, found.group, found.note) == ("t2", "Doors", "why, though")
    assert write_expected_flow(found.flow) == "kiosk → ledger web pass"


def test_every_problem_of_a_table_has_its_line() -> None:
    with pytest.raises(DocumentError) as raised:
        read_tests("group,flow\nA,kiosk → ledger web\nB,kiosk → ledger web pass\nC,nonsense pass\n")
    assert [problem.line for problem in raised.value.problems] == [2, 4]
    with pytest.raises(DocumentError, match="names no column “flow”"):
        read_tests("source,destination\n")


def test_two_traces_part_at_the_first_step_that_differs() -> None:
    lab = Lab().place("r3 wan0 in", "deny tcp to any port 443\npermit any")
    bare, listed = traced(lab, "left → right web", baseline=True), traced(lab, "left → right web")
    found = parting(bare, listed)
    assert found is not None
    assert (found.way, found.device) == ("out", "r3")
    assert found.after is not None
    assert "list denies" in found.after
    assert parting(bare, bare) is None
