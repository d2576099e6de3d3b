"""Advice about random networks: every choice is made for real, and must do what it says."""

from collections.abc import Iterator
from random import Random

from msgspec.structs import replace

from greyheron.analysis.advice.advisor import Advisor
from greyheron.analysis.advice.choices import Choice
from greyheron.analysis.proof.answers import Answer
from greyheron.analysis.proof.prover import Prover
from greyheron.analysis.proof.sentences import remains
from greyheron.analysis.testing.judge import Standing, judge
from greyheron.core.bulk.engines import engines
from greyheron.core.walk.addressing import FlowError
from greyheron.core.walk.conversation import converse
from greyheron.core.world import World, build_world
from greyheron.model.changes import apply
from greyheron.model.document import Network, Requirement, TestFlow
from greyheron.model.flow import ExpectedFlow
from greyheron.model.notation.requirements import read_requirement
from greyheron.model.read import edited
from greyheron.model.requirement import Statement
from greyheron.model.values import Expectation
from tests.brute import random_requirement, tiny_network
from tests.random_networks import random_flows

FLOWS, OTHERS = 8, 2


def asked_of(seed: int) -> tuple[Network, Statement]:
    """A small network with test flows and requirements of its own, and what is asked of it."""
    network = tiny_network(seed)
    flows = random_flows(network, seed, FLOWS)
    chance = Random(f"advice {seed}")
    tests = [
        TestFlow(id=f"t{number}", flow=ExpectedFlow(flow, chance.choice(list(Expectation))))
        for number, flow in enumerate(flows)
    ]
    others = [
        Requirement(id=f"r{number}", statement=read_requirement(random_requirement(seed + 1000 * number)))
        for number in range(1, OTHERS + 1)
    ]
    update = {"tests": tuple(tests), "requirements": tuple(others)}
    return network.model_copy(update=update), read_requirement(random_requirement(seed))


def advised_otherwise(seed: int) -> Iterator[str]:
    """What choices do otherwise than they say, in one random network; nothing where they keep their word."""
    network, statement = asked_of(seed)
    found, world = engines(), build_world(network)
    advice = Advisor(Prover(found), found, world, network).advise(statement)
    for choice in advice.choices:
        where = " ".join(map(str, choice.points))
        yield from (
            f"{statement.kind} {where} ({choice.list}): {each}"
            for each in _broken(choice, network, world, statement)
        )


def _broken(choice: Choice, network: Network, world: World, statement: Statement) -> Iterator[str]:
    after = edited(network, list(choice.changes))  # what is written can be read again
    if after.lists != apply(network, choice.changes).lists:
        yield "its lists read back otherwise"
    there, prover = build_world(after), Prover(engines())
    proof = prover.prove(replace(statement, family=choice.family), there, after).proof
    if (proof.answer is not Answer.VIOLATED) is not choice.holds:
        yield f"it says that it holds: {choice.holds}, and is {proof.answer}"
    if choice.holds and remains(proof.remaining) != choice.remains:
        yield f"it says that “{choice.remains}”, and “{remains(proof.remaining)}” remains"
    failing = {test.id for test in network.tests if _holds(test, world) and not _holds(test, there)}
    if failing != set(choice.collateral.tests):
        yield f"it says that {choice.collateral.tests} would fail, and {sorted(failing)} do"
    lost = {
        each.id
        for each in network.requirements
        if each.statement != statement
        and prover.prove(each.statement, world, network).proof.answer is Answer.PROVED
        and prover.prove(each.statement, there, after).proof.answer is not Answer.PROVED
    }
    if lost != set(choice.collateral.requirements):
        yield f"it says that {choice.collateral.requirements} would be lost, and {sorted(lost)} are"


def _holds(test: TestFlow, world: World) -> bool:
    try:
        found, without = (converse(each, test.flow.flow).verdict for each in (world, world.baseline))
    except FlowError:
        return False
    return judge(test.flow.expect, found, without).standing is Standing.HOLDS
