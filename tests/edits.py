"""Networks edited at random: what is kept from one draft to the next answers as what is worked out afresh."""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from random import Random

from msgspec.structs import replace

from greyheron.analysis.advice.advisor import Advisor
from greyheron.analysis.advice.choices import Advice
from greyheron.analysis.findings.finder import find_in_time
from greyheron.analysis.findings.finding import Finding
from greyheron.analysis.findings.finding_cache import KeptFindings
from greyheron.analysis.proof.answers import Proof
from greyheron.analysis.proof.prover import Proven, Prover
from greyheron.analysis.reach.matrix import Cells
from greyheron.analysis.reach.matrix_cache import KeptReaches
from greyheron.analysis.reach.question import ReachQuestion
from greyheron.compute.derived import DerivedState
from greyheron.compute.documents import RunningAndDraft
from greyheron.compute.questions.book import BookQuestion
from greyheron.compute.questions.findings import FindingsQuestion
from greyheron.compute.questions.policy import PolicyQuestion
from greyheron.compute.questions.reach import MatrixQuestion
from greyheron.core.bulk.engines import Engines, engines
from greyheron.core.timeline import Timeline
from greyheron.core.world import World, build_world
from greyheron.model.document import Network, Placement, Requirement, TestFlow
from greyheron.model.flow import ExpectedFlow
from greyheron.model.notation.requirements import read_requirement
from greyheron.model.values import Action, Direction, Expectation, Family
from tests.random_networks import ASKED, random_flows, random_network

REQUIREMENTS = 2


def edited_at_random(network: Network, chance: Random) -> Network:
    """`network` with one thing changed: in a list, in where one stands, or sometimes in a device."""
    kind = chance.choice(("entry", "entry", "entry", "placement", "placement", "device"))
    if kind == "entry" and network.lists:
        return _with_other_entry(network, chance)
    if kind == "placement" and network.placements:
        return _with_other_placement(network, chance)
    return _with_other_interface(network, chance)


def _with_other_entry(network: Network, chance: Random) -> Network:
    at = chance.randrange(len(network.lists))
    found = network.lists[at]
    entries = list(found.body.entries)
    if entries:
        index = chance.randrange(len(entries))
        if chance.random() < 0.5:
            other = Action.DENY if entries[index].action is Action.PERMIT else Action.PERMIT
            entries[index] = replace(entries[index], action=other, silent=False)
        else:
            del entries[index]
    changed = found.model_copy(update={"body": found.body.with_entries(entries)})
    return network.model_copy(update={"lists": (*network.lists[:at], changed, *network.lists[at + 1 :])})


def _with_other_placement(network: Network, chance: Random) -> Network:
    placements = list(network.placements)
    gone = placements.pop(chance.randrange(len(placements)))
    family = {each.name: each.family for each in network.lists}
    turned = Direction.OUT if gone.direction is Direction.IN else Direction.IN
    taken = {(each.device, each.at, each.direction, family[each.list]) for each in placements}
    is_port = any(
        interface.name == gone.at
        for device in network.devices
        if device.name == gone.device
        for interface in device.interfaces
    )
    if is_port and (gone.device, gone.at, turned, family[gone.list]) not in taken and chance.random() < 0.6:
        moved = Placement(list=gone.list, device=gone.device, at=gone.at, direction=turned)
        placements.append(moved)
    return network.model_copy(update={"placements": tuple(placements)})


def _with_other_interface(network: Network, chance: Random) -> Network:
    at = chance.randrange(len(network.devices))
    device = network.devices[at]
    if not device.interfaces:
        return network
    index = chance.randrange(len(device.interfaces))
    interface = device.interfaces[index]
    other = interface.model_copy(update={"enabled": not interface.enabled})
    interfaces = (*device.interfaces[:index], other, *device.interfaces[index + 1 :])
    changed = device.model_copy(update={"interfaces": interfaces})
    return network.model_copy(
        update={"devices": (*network.devices[:at], changed, *network.devices[at + 1 :])}
    )


def random_requirement(network: Network, chance: Random) -> str:
    """One that speaks of some of its devices."""
    hosts = [device.name for device in network.devices if device.traits.end_system]
    sides = [chance.choice(["any", "hosts", "routers", *hosts]) for _ in range(2)]
    return (
        f"{chance.choice(('allow', 'block', 'block', 'only'))} {sides[0]} → {sides[1]} {chance.choice(ASKED)}"
    )


@dataclass
class Working:
    """What a running server keeps of one network, from one edit to the next."""

    engines: Engines = field(default_factory=engines)
    reaches: KeptReaches = field(default_factory=KeptReaches)
    proven: dict[str, Proven] = field(default_factory=dict)
    world: World | None = None

    def __post_init__(self) -> None:
        self.prover = Prover(self.engines)
        self.findings = KeptFindings(self.reaches)

    def build(self, network: Network) -> World:
        self.world = build_world(network, self.world)
        return self.world

    def found(self, world: World) -> tuple[Finding, ...]:
        return find_in_time(Timeline.still(world), self.engines, self.findings)

    def proof(self, world: World, text: str) -> Proof:
        known = self.proven.get(text)
        statement = read_requirement(text)
        self.proven[text] = self.prover.prove(statement, world, world.network, known)
        return self.proven[text].proof

    def advice(self, world: World, text: str) -> Advice:
        advisor = Advisor(self.prover, self.engines, world, world.network, self.proven, self.reaches)
        return advisor.advise(read_requirement(text))

    def cells(self, world: World, family: Family) -> Cells:
        question = ReachQuestion(("services", "ping"), family)
        return self.reaches.of(world, world.network, self.engines, question).cells()


def answers(state: DerivedState, stored: RunningAndDraft) -> dict[str, object]:
    """What is said of a network, as what can be compared."""
    found: dict[str, object] = {
        "findings": state.ask(FindingsQuestion(), stored),
        "the policy": state.ask(PolicyQuestion(), stored),
        "the book": state.ask(BookQuestion(), stored),
    }
    for family in Family:
        reached = state.ask(MatrixQuestion(asked=ReachQuestion(("services", "ping"), family)), stored)
        found[f"reach over {family.word}"] = reached.running.tolist(), reached.draft.tolist()
    return found


def answered_otherwise(seed: int, edits: int, states: Mapping[str, DerivedState]) -> Iterator[str]:
    """What states that are kept answer otherwise than a fresh one, in one random network that is edited."""
    chance = Random(f"elsewhere {seed}")
    running = with_questions(random_network(seed), chance)
    network = running
    for number in range(edits):
        stored = RunningAndDraft(running, network)
        expected = answers(DerivedState(), stored)
        for name, state in states.items():
            found = answers(state, stored)
            yield from (
                f"edit {number}, {name}: {what}" for what in expected if found[what] != expected[what]
            )
        network = edited_at_random(network, chance)


def with_questions(network: Network, chance: Random) -> Network:
    """A random network with test flows and requirements."""
    flows = random_flows(network, chance.randrange(1000), 6)
    tests = [
        TestFlow(id=f"t{number}", flow=ExpectedFlow(flow, Expectation.PASS))
        for number, flow in enumerate(flows)
    ]
    asked = [
        Requirement.model_validate({"id": f"r{number}", "statement": random_requirement(network, chance)})
        for number in range(2 * REQUIREMENTS)
    ]
    return network.model_copy(update={"tests": tuple(tests), "requirements": tuple(asked)})


def disagreeing(seed: int, edits: int) -> Iterator[str]:
    """What answers otherwise after edits than afresh, in one random network."""
    chance = Random(f"edits {seed}")
    network, working = random_network(seed), Working()
    texts = [random_requirement(network, chance) for _ in range(REQUIREMENTS)]
    for number in range(edits):
        fresh = Working()
        world, same = working.build(network), fresh.build(network)
        if working.found(world) != fresh.found(same):
            yield f"edit {number}: findings"
        for text in texts:
            if working.proof(world, text) != fresh.proof(same, text):
                yield f"edit {number}: {text}"
            if working.advice(world, text) != fresh.advice(same, text):
                yield f"edit {number}: advice for {text}"
        for family in Family:
            if (working.cells(world, family) != fresh.cells(same, family)).any():
                yield f"edit {number}: reach over {family.word}"
        network = edited_at_random(network, chance)
