"""Witnesses of requirements: what violates first, then what comes to other entries, no more than a bound."""

from greyheron.analysis.proof.prover import Prover
from greyheron.analysis.proof.witnesses import MOST, witnesses
from greyheron.core.bulk.engines import engines
from greyheron.core.lists.met import Filtered
from greyheron.core.timeline import Timeline
from greyheron.core.walk.conversation import converse
from greyheron.core.walk.verdicts import Verdict
from greyheron.model.flow import Flow
from greyheron.model.notation.requirements import read_requirement
from tests.lab import Lab

ENTRIES = """
permit tcp from any to 172.20.3.10 port 443
deny tcp from any to 172.20.3.10 port 80
permit udp from any to any
deny icmp from any to any
permit any from any to any
"""


def witnessed(lab: Lab, text: str) -> tuple[Timeline, list[Flow]]:
    timeline = Timeline.build(lab.network())
    return timeline, witnesses(Prover(engines()), read_requirement(text), timeline)


def verdicts(timeline: Timeline, flows: list[Flow]) -> list[Verdict]:
    return [converse(timeline.first, flow).verdict for flow in flows]


def test_every_entry_on_the_way_is_met_by_one() -> None:
    timeline, flows = witnessed(Lab().place("r2 wan0 in", ENTRIES), "block left → right any ipv4")
    met = {
        step.decision.entry
        for flow in flows
        for hop in converse(timeline.first, flow).exchanges[0].legs[0].path.hops
        for step in hop.steps
        if isinstance(step, Filtered)
    }
    assert met == {10, 20, 30, 40, 50}
    assert len(flows) <= MOST


def test_what_violates_comes_first() -> None:
    timeline, flows = witnessed(Lab().place("r2 wan0 in", ENTRIES), "allow left → right tcp/443,80 ipv4")
    assert verdicts(timeline, flows)[0] is Verdict.BLOCKED
    assert Verdict.PASSES in verdicts(timeline, flows)


def test_with_no_list_on_the_way_one_will_do() -> None:
    _, flows = witnessed(Lab(), "allow left → right tcp/443 ipv4")
    assert len(flows) == 1


def test_each_time_has_its_own() -> None:
    lab = Lab().place("r2 wan0 in", "permit any from any to any during day\n")
    lab.data["periods"] = [{"name": "day", "windows": ["daily 08:00-18:00"]}]
    _, flows = witnessed(lab, "allow left → right tcp/443 ipv4")
    assert len({flow.at for flow in flows}) == len(flows) == 2
