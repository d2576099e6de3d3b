"""Real machines brought in: what their model predicts, and what they did."""

from pathlib import Path
from typing import Any

import pytest

from greyheron.analysis.traffic.folding import SeenTraffic, fold
from greyheron.analysis.traffic.judging import judge, parties_of
from greyheron.analysis.traffic.timestamps import whenever
from greyheron.core.bulk.engines import engines
from greyheron.core.timeline import Timeline
from greyheron.core.walk.conversation import converse
from greyheron.core.walk.verdicts import Verdict
from greyheron.demo.networks import saltmarsh
from greyheron.formats.bundle import Bundle, bundle_in
from greyheron.formats.format import Brought
from greyheron.formats.known import bring
from greyheron.formats.traffic import read_traffic
from greyheron.model.document import Network
from greyheron.model.notation.flows import read_bare_flow
from greyheron.rehearsal.runner import missing, run_rehearsal
from tests.kernel.held import SEES, in_namespaces

pytestmark = pytest.mark.skipif(bool(missing()), reason=" ".join(missing()) or "namespaces can be had")


@pytest.fixture(scope="module")
def told() -> dict[str, Any]:
    found: dict[str, Any] = in_namespaces("tests.kernel.machines")
    return found


@pytest.fixture(scope="module")
def brought(told: dict[str, Any]) -> Brought:
    format_found, found = bring(
        Bundle("reserve.zip", {name: text.encode() for name, text in told["files"].items()})
    )
    assert format_found.name == "machines"
    return found


def test_what_is_predicted_of_collected_machines_happens(told: dict[str, Any], brought: Brought) -> None:
    world = Timeline.build(brought.network).first
    differing = []
    for text, seen in told["seen"]:
        result = converse(world, read_bare_flow(text))
        (exchange,) = result.exchanges
        predicted = SEES.get(exchange.sees, str(exchange.sees))
        if predicted != seen:
            differing.append((text, predicted, seen, result.verdict))
    assert differing == []
    assert len(told["seen"]) >= 50
    verdicts = {converse(world, read_bare_flow(text)).verdict for text, _ in told["seen"]}
    assert verdicts >= {Verdict.PASSES, Verdict.BLOCKED, Verdict.REFUSED}


def test_captured_traffic_gets_through_real_lists_where_that_is_foretold(tmp_path: Path) -> None:
    """Captured without lists, judged with them, and captured again once they were really loaded."""
    whole = saltmarsh()
    flows = ((each, each.flow.flow) for each in whole.tests)
    conversing = tuple(each for each, flow in flows if flow.flags is None and flow.at is None)
    network = whole.model_copy(update={"requirements": (), "tests": conversing})
    seen = [
        captured(network.model_copy(update={"placements": ()}), tmp_path / "open"),
        captured(network, tmp_path / "filtered"),
    ]
    world = Timeline.build(network).first
    parties = parties_of(seen[0], world)
    (judged,) = judge(seen[0], parties, whenever(seen[0], world), engines())
    passes = judged.passes()
    answered_then = {key: answered for key, _, answered in conversations(seen[1])}
    foretold = [
        (key, bool(passes[at]), answered_then.get(key, False))
        for key, at, answered in conversations(seen[0])
        if answered
    ]
    assert len(foretold) > 20
    assert {through for _, through, _ in foretold} == {True, False}
    assert [each for each in foretold if each[1] is not each[2]] == []


def captured(network: Network, folder: Path) -> SeenTraffic:
    folder.mkdir()
    run_rehearsal(network, lambda _stage, _done: None, captures=folder)
    return fold(read_traffic(bundle_in(folder))[0])


def conversations(seen: SeenTraffic) -> list[tuple[tuple[Any, ...], int, bool]]:
    """Who, whom and service, with the index and whether it was answered."""
    return [
        (
            (
                seen.addresses[seen.source[at]],
                seen.addresses[seen.destination[at]],
                int(seen.protocol[at]),
                int(seen.port[at]),
            ),
            at,
            bool(seen.answered[at]),
        )
        for at in range(len(seen))
    ]
