"""An edited network answers as a fresh one does, whatever is kept from the draft before."""

from random import Random

import pytest

from greyheron.analysis.advice.advisor import Advisor
from greyheron.analysis.findings.finder import merged
from greyheron.analysis.proof.prover import Prover
from greyheron.compute.derived import DerivedState
from greyheron.compute.documents import RunningAndDraft
from greyheron.compute.questions.findings import FindingsQuestion
from greyheron.core.bulk.engines import engines
from greyheron.core.shares import Share
from greyheron.core.walk.conversation import converse
from greyheron.core.world import build_world
from greyheron.model.notation.requirements import read_requirement
from tests.edits import Working, answered_otherwise, disagreeing, with_questions
from tests.random_networks import random_network


@pytest.mark.long
@pytest.mark.parametrize("seed", range(6))
def test_what_is_kept_answers_as_what_is_worked_out_afresh(seed: int) -> None:
    assert list(disagreeing(seed, edits=4)) == []


@pytest.mark.parametrize("seed", [26, 38])
def test_what_is_said_of_a_policy_does_not_depend_on_earlier_drafts(seed: int) -> None:
    """Nor the order of what violates, nor the lists that are met."""
    assert list(answered_otherwise(seed, 4, {"kept": DerivedState()})) == []


@pytest.mark.parametrize("seed", [200_030, 200_042])
def test_shares_find_together_what_one_search_finds(seed: int) -> None:
    """Also where one frame list stops neighbours of both families."""
    stored = RunningAndDraft.same(with_questions(random_network(seed), Random(f"elsewhere {seed}")))
    shares = (Share(number, 2) for number in range(2))
    parts = [DerivedState().ask(FindingsQuestion(share=share), stored) for share in shares]
    found = merged(parts)
    assert found == DerivedState().ask(FindingsQuestion(), stored)
    assert {"ARP" in each.text for each in found if each.kind == "neighbour discovery cut"} == {True, False}


def test_findings_do_not_fail_where_a_way_begins_at_somebody_who_could_be_there() -> None:
    network = with_questions(random_network(200_006), Random("elsewhere 200006"))
    found = Working().found(build_world(network))
    assert "list that faces the wrong way" in {each.kind for each in found}


def test_a_counterexample_to_an_outside_address_can_be_traced() -> None:
    """It goes to the address by which a translated host is reached, which that host does not have."""
    network, found = random_network(7), engines()
    world, prover = build_world(network), Prover(found)
    statement = read_requirement("block any+devices → h10 ping")
    counterexample = prover.prove(statement, world, network).proof.counterexample
    assert counterexample is not None
    assert counterexample.flow.destination.device is None
    assert converse(world, counterexample.flow).exchanges
    assert Advisor(prover, found, world, network).advise(statement).text
