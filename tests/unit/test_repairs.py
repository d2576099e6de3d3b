"""Every finding has a repair that mends it, or a sentence why there is none."""

import ast
from pathlib import Path

import pytest

from greyheron.analysis.findings.finding import Finding
from greyheron.analysis.findings.repairs import NO_REPAIR, unrepaired
from greyheron.compute.derived import DerivedState
from greyheron.compute.documents import RunningAndDraft
from greyheron.compute.questions.findings import FindingsQuestion
from greyheron.demo.networks import saltmarsh, storm
from greyheron.model.changes import Change
from greyheron.model.document import Network
from greyheron.model.notation.lists import write_body
from greyheron.model.read import edited

FOLDER = Path(__file__).parents[2] / "src/greyheron/analysis/findings"
ALWAYS_REPAIRED = {
    "entry that changes nothing",
    "entry that never matches",
    "frame list that stops ARP",
    "general before specific",
    "hole for fragments",
    "list of denies only",
    "list on some of the lines",
    "one address of several",
    "wider than what is there",
}


def findings(network: Network, state: DerivedState | None = None) -> tuple[Finding, ...]:
    """state:  what is known already, where more than one edit of a network is asked about"""
    return (state or DerivedState()).ask(FindingsQuestion(), RunningAndDraft.same(network))


def kinds() -> set[str]:
    """The kinds that some code makes findings of."""
    found: set[str] = set()
    for file in FOLDER.glob("*.py"):
        for node in ast.walk(ast.parse(file.read_text())):
            if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id == "Finding":
                first = node.args[0]
                words = [str(each.value) for each in ast.walk(first) if isinstance(each, ast.Constant)]
                found |= {f"no way {way}" for way in ("back", "out")} if "no way " in words else set(words)
    return found


def test_every_kind_is_known_to_be_repaired_or_says_why_not() -> None:
    assert len(kinds()) > 30
    assert kinds() == set(NO_REPAIR) | ALWAYS_REPAIRED
    assert not set(NO_REPAIR) & ALWAYS_REPAIRED
    assert all(sentence.endswith(".") and len(sentence) < 100 for sentence in NO_REPAIR.values())


@pytest.mark.long
@pytest.mark.parametrize("network", [saltmarsh(), storm()], ids=["demo", "storm"])
def test_repairs_of_the_demo_mend_what_they_are_for(network: Network) -> None:
    repaired, state = 0, DerivedState()
    for each in findings(network, state):
        if each.repair is None:
            assert unrepaired(each)
            continue
        repaired += 1
        after = edited(network, list(each.repair.changes))
        assert each.key not in {left.key for left in findings(after, state)}, each.repair.label
    assert repaired


def mended(network: Network, kind: str, name: str) -> Network:
    """The network after the first repair of a kind in a list, which is not found any more."""
    finding = next(each for each in findings(network) if (each.kind, each.lists) == (kind, (name,)))
    assert finding.repair is not None
    after = edited(network, list(finding.repair.changes))
    assert finding.key not in {each.key for each in findings(after)}
    return after


def put(network: Network, *lists: dict[str, str], placed: str) -> Network:
    device, at, direction = placed.split(":")
    changes = [Change(collection="lists", key=each["name"], item=each) for each in lists]
    changes += [
        Change(
            collection="placements",
            key=f"{placed}:{each['name']}",
            item={"list": each["name"], "device": device, "at": at, "direction": direction},
        )
        for each in lists
    ]
    return edited(network, changes)


def entries(network: Network, name: str) -> list[str]:
    access_list = next(each for each in network.lists if each.name == name)
    return write_body(access_list.body, access_list.family, access_list.kind).splitlines()


def test_replies_of_a_connection_are_let_through_before_what_denies_them() -> None:
    own = {"name": "lab-out", "family": "ipv4", "kind": "extended"}
    lines = "10 deny tcp from @ledger to @visitors\n20 permit any from any to any\n"
    network = put(saltmarsh(), {**own, "entries": lines}, placed="lagoon:eth2:in")
    after = mended(network, "reply blocked", "lab-out")
    assert "permit tcp from any to any established" in entries(after, "lab-out")[0]


def test_a_standard_list_says_why_it_cannot_be_mended() -> None:
    own = {"name": "lab-out", "family": "ipv4", "kind": "standard"}
    lines = "10 deny from @ledger\n20 permit from any\n"
    network = put(saltmarsh(), {**own, "entries": lines}, placed="lagoon:eth2:in")
    blocked = [each for each in findings(network) if each.lists == ("lab-out",) and "reply" in each.kind]
    assert blocked
    for each in blocked:
        assert (each.repair, unrepaired(each)) == (None, NO_REPAIR["reply blocked"])
