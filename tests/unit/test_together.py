"""All requirements made to hold at once: held to trying every set of places by hand, and cases by hand."""

import pytest

from greyheron.analysis.advice.covering import cheapest_cover
from greyheron.analysis.advice.plans import AllHolding, PolicyPlan
from greyheron.analysis.proof.answers import Answer
from greyheron.analysis.proof.prover import Prover
from greyheron.compute.derived import DerivedState
from greyheron.compute.documents import RunningAndDraft
from greyheron.compute.questions.all_holding import AllHoldingQuestion
from greyheron.core.bulk.engines import engines
from greyheron.core.timeline import Timeline
from greyheron.demo.networks import saltmarsh
from greyheron.model.changes import Change
from greyheron.model.document import Network
from greyheron.model.notation.requirements import write_requirement
from greyheron.model.read import edited
from tests.together import asked, small, unlike


@pytest.mark.parametrize("seed", range(12))
def test_plans_do_what_is_wanted_with_as_few_places_as_there_are(seed: int) -> None:
    assert list(unlike(small(seed))) == []


def answers(network: Network) -> dict[str, set[Answer]]:
    """What becomes of each requirement, at all times, worked out afresh."""
    timeline, prover = Timeline.build(network), Prover(engines())
    return {
        write_requirement(each.statement): {
            prover.prove(each.statement, timeline.world(span), network).proof.answer
            for span in timeline.for_statement(each.statement)
        }
        for each in network.requirements
    }


def taken(network: Network, plan: PolicyPlan) -> Network:
    return edited(network, list(plan.changes))


def with_requirements(network: Network, *statements: str, only: bool = False) -> Network:
    gone = [Change(collection="requirements", key=each.id) for each in network.requirements if only]
    new = [
        Change(collection="requirements", key=f"q{number}", item={"id": f"q{number}", "statement": text})
        for number, text in enumerate(statements)
    ]
    return edited(network, [*gone, *new])


def bare(network: Network) -> Network:
    return network.model_copy(update={"lists": (), "placements": ()})


@pytest.mark.long
def test_the_demo_from_nothing() -> None:
    network = bare(saltmarsh())
    found = asked(network)
    assert found.text == "3 requirements would hold, and no other is lost: 2 ways that differ in kind."
    for plan in found.plans:
        after = taken(network, plan)
        assert all(Answer.VIOLATED not in each for each in answers(after).values())
        assert (plan.locked, plan.cut, plan.broken) == ((), (), ())
        assert plan.places == len(after.placements)
    assert found.plans[0].places == min(plan.places for plan in found.plans)
    lines = next(each for each in found.plans[0].lists if len(each.places) > 1)
    assert all(place.endswith("remote line") for place in lines.places)


def test_with_its_lists_only_what_is_missing_is_added() -> None:
    network = saltmarsh()
    plan = asked(network).plans[0]
    assert (plan.places, plan.entries) == (1, 2)
    after = taken(network, plan)
    assert after.lists[:-1] == network.lists
    assert after.placements[:-1] == network.placements


def test_a_list_that_stands_there_is_extended_and_keeps_its_notes_and_numbers() -> None:
    own = {
        "name": "visitors-in",
        "family": "ipv4",
        "kind": "extended",
        "note": "Made by hand.",
        "entries": "10 permit tcp from @till to any port 443 # cards\n20 permit any from any to any\n",
    }
    placed = {"list": "visitors-in", "device": "centre-gw", "at": "eth1", "direction": "in"}
    network = edited(
        saltmarsh(),
        [
            Change(collection="lists", key="visitors-in", item=own),
            Change(collection="placements", key="centre-gw:eth1:in:visitors-in", item=placed),
        ],
    )
    plan = asked(network).plans[0]
    assert plan.places == 0
    after = next(each for each in taken(network, plan).lists if each.name == "visitors-in")
    before = next(each for each in network.lists if each.name == "visitors-in")
    assert after.note == "Made by hand."
    assert after.body.entries[-2:] == before.body.entries
    assert len(after.body.entries) == 3


def at_odds(*statements: str) -> AllHolding:
    return asked(with_requirements(bare(saltmarsh()), *statements, only=True))


def test_what_cannot_be_had_together_is_named() -> None:
    found = at_odds("allow visitors → ledger https", "block kiosk → ledger any", "block guest → till any")
    assert set(found.at_odds) == {"allow visitors → ledger https", "block kiosk → ledger any"}
    assert found.plans == ()
    assert "kiosk" in found.text
    assert "is wanted by one" in found.text


def test_what_no_list_can_do_is_said_of_it_alone() -> None:
    segment = "block segment:centre-gw:eth1 → segment:centre-gw:eth1 ssh"
    same_segment = at_odds("block visitors → ledger telnet", segment)
    assert same_segment.at_odds == (segment,)
    assert "meets no place where a list could stop it" in same_segment.text
    nobody_answers = at_odds("allow kiosk → ledger tcp/9999", "block visitors → ledger telnet")
    assert nobody_answers.at_odds == ("allow kiosk → ledger tcp/9999",)
    assert "no list lets" in nobody_answers.text


def test_a_host_filters_itself_only_where_nothing_else_can() -> None:
    network = with_requirements(
        bare(saltmarsh()), "block kiosk → till any", "block kiosk → ledger telnet", only=True
    )
    for plan in asked(network).plans:
        (host,) = plan.hosts
        assert host in ("kiosk", "till")
        assert sum(host in place for each in plan.lists for place in each.places) == 1


def test_replies_of_what_is_wanted_are_let_through_where_the_other_way_is_blocked() -> None:
    network = with_requirements(
        bare(saltmarsh()), "allow kiosk → ledger https", "block ledger → visitors any", only=True
    )
    for plan in asked(network).plans:
        assert all(each == {Answer.PROVED} for each in answers(taken(network, plan)).values())
        assert any("established" in line for each in plan.lists for line in each.added)


def test_what_holds_already_needs_nothing_and_what_is_not_chosen_is_left() -> None:
    network = bare(saltmarsh())
    held = with_requirements(network, "allow visitors → ledger https", only=True)
    assert asked(held) == AllHolding("All of them hold already: nothing needs to be placed.", ())
    question = AllHoldingQuestion(chosen=("r2",))
    (plan, *_) = DerivedState().ask(question, RunningAndDraft.same(network)).plans
    after = answers(taken(network, plan))
    assert after["block visitors → ledger telnet"] == {Answer.PROVED}
    assert after["only wardens-desk → sluice,lagoon,hide-gw,centre-gw ssh ipv4"] == {Answer.VIOLATED}


def test_both_families_and_hours_are_meant() -> None:
    network = with_requirements(
        bare(saltmarsh()),
        "block kiosk → ledger https ipv6",
        "block visitors → ledger telnet during by-day",
        only=True,
    )
    plan = asked(network).plans[0]
    after = taken(network, plan)
    assert {each.family for each in after.lists} == {"ipv4", "ipv6"}
    assert any(line.endswith("during by-day") for each in plan.lists for line in each.added)
    assert all(each == {Answer.PROVED} for each in answers(after).values())


def test_the_cheapest_cover() -> None:
    costs = {"a": 1.0, "b": 1.0, "c": 1.5, "d": 1.0}
    sites = {"a": 1, "b": 2, "c": 3, "d": 3}
    paid = {1: 10.0, 2: 10.0, 3: 10.0}
    needs = [frozenset("ac"), frozenset("bc")]
    assert cheapest_cover(needs, costs, sites, paid) == frozenset("c")
    assert cheapest_cover(needs, costs, sites, {1: 0.0, 2: 0.0, 3: 10.0}) == frozenset("ab")
    assert cheapest_cover([*needs, frozenset("d")], costs, sites, paid) == frozenset("cd")
    assert cheapest_cover([], costs, sites, paid) == frozenset()
    assert cheapest_cover([frozenset("x")], costs, sites, paid) is None
    assert cheapest_cover([frozenset()], costs, sites, paid) is None


def test_a_search_that_is_given_up_says_no_more_than_that(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("greyheron.analysis.advice.together._ROUNDS", 1)
    found = at_odds("block visitors → ledger telnet")
    assert found.plans == ()
    assert found.at_odds == ("block visitors → ledger telnet",)
    assert "which does not say that there are none" in found.text
