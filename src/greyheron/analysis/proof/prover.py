"""Requirements answered, and answered again after an edit of lists (§10)."""

from collections import Counter
from collections.abc import Callable, Iterable, Iterator

import numpy as np
from cachetools import LRUCache
from msgspec import Struct
from msgspec.structs import replace

from greyheron.analysis.proof.answers import Answer, Box, Counterexample, Proof, Violation
from greyheron.analysis.proof.boxes import ClassRows, PartyTotals, boxes_of
from greyheron.analysis.proof.coarse_classes import ProofPart, parts_of
from greyheron.analysis.proof.fine_classes import apart, usual_port
from greyheron.analysis.proof.header_space import CoarseClasses, ProofSpace, RequirementHalf
from greyheron.analysis.proof.refinement import groups_of_frames
from greyheron.analysis.proof.services import OPEN_WORDS
from greyheron.analysis.proof.wording import flow_between, service_words
from greyheron.core.bulk.engine import VERDICT_ORDER, BulkEngine
from greyheron.core.bulk.engines import Engines
from greyheron.core.headers import Ints
from greyheron.core.intervals import TooManyParts
from greyheron.core.progress import Progress, unwatched
from greyheron.core.progress import part as part_of
from greyheron.core.walk.addressing import USUAL_SOURCE_PORT
from greyheron.core.walk.verdicts import Verdict
from greyheron.core.walk.walk import MOST_PATHS
from greyheron.core.world import World
from greyheron.model.document import Network
from greyheron.model.requirement import RequirementKind, Statement
from greyheron.model.values import Expectation, Family

MOST_GROUNDS, LEAST_GROUNDS = 6, 4
GROUND_BYTES = 128 << 20
"""So many worlds, and so many bytes of them, are held on to for what proofs in them rest on."""


class ProvenHalf(Struct, frozen=True):
    classes: CoarseClasses
    parts: tuple[ProofPart, ...]


class Proven(Struct, frozen=True):
    """A proof with what it rests on, so that it can be had again when lists have changed.

    network, world:  which it holds for;  tried:  what the baseline makes of a block that holds, by verdict
    """

    statement: Statement
    network: Network
    world: World
    halves: tuple[ProvenHalf, ...]
    proof: Proof
    tried: Counter[Verdict] | None

    @property
    def parts(self) -> tuple[ProofPart, ...]:
        return tuple(part for half in self.halves for part in half.parts)

    @property
    def violating(self) -> int:
        """How many classes of conversations violate the statement."""
        return sum(len(part.wrong) for part in self.parts)

    @property
    def nbytes(self) -> int:
        """About how much memory it takes."""
        return 2000 + sum(part.nbytes for part in self.parts)


class Prover:
    """Proofs in worlds that may differ in little; what they share is worked out once."""

    def __init__(self, engines: Engines) -> None:
        """engines:  gives the bulk engine of a world, which shares what it finds with those of others"""
        self._engines = engines
        self._compared: tuple[Network, Network, bool] | None = None
        self._grounds: LRUCache[tuple[World, Family], ProofSpace] = LRUCache(
            GROUND_BYTES,
            getsizeof=lambda grounds: min(
                max(grounds.world.nbytes, GROUND_BYTES // MOST_GROUNDS), GROUND_BYTES // LEAST_GROUNDS
            ),
        )

    def prove(
        self,
        statement: Statement,
        world: World,
        network: Network,
        known: Proven | None = None,
        progress: Progress = unwatched,
    ) -> Proven:
        """The answer in `world`. Raises Cancelled.

        known:  an answer to the same statement, perhaps of another world
        """
        engine = self._engines(world.with_possible_hosts)
        if known is not None and known.statement == statement:
            before = self._fitting(known, engine, network)
            if before is not None:
                return self._again(known, world, network, engine, before)
        try:
            return self._proven(statement, world, network, engine, progress)
        except TooManyParts as many:
            reason = (
                f"There are too many kinds of address to decide exactly: {many.count:,} or more on one of "
                "its sides, which scattered wildcards tell apart. Nothing is certain."
            )
            proof = Proof(Answer.INCONCLUSIVE, 0, 0, 0, (), (), None, reason)
            return Proven(statement, network, world, (), proof, None)

    def holds_still(self, known: Proven, world: World, network: Network) -> bool:
        """Whether what was proved is proved with other lists too: quicker than a proof of all of it."""
        engine = self._engines(world.with_possible_hosts)
        before = self._fitting(known, engine, network)
        if before is not None:
            found = [part.holds_still(engine, before) for part in known.parts]
            if None not in found:
                return all(found)
        return self.prove(known.statement, world, network, known).proof.answer is Answer.PROVED

    def left(self, known: Proven, world: World, network: Network) -> tuple[int, tuple[Violation, ...]]:
        """How many classes violate a statement with other lists, where that is all that is wanted.

        Where none does: also what devices themselves do otherwise.
        """
        engine = self._engines(world.with_possible_hosts)
        before = self._fitting(known, engine, network)
        if before is None:
            proven = self.prove(known.statement, world, network, known)
            return proven.violating, proven.proof.remaining
        halves = [
            ProvenHalf(half.classes, tuple(part.again(engine, before) for part in half.parts))
            for half in known.halves
        ]
        violating = sum(len(part.wrong) for half in halves for part in half.parts)
        return violating, () if violating else tuple(_violations(halves, ProofPart.remaining_cells))

    def _fitting(self, known: Proven, engine: BulkEngine, network: Network) -> BulkEngine | None:
        """The engine of what is known, if what is known can be brought up to date for another one."""
        if not known.halves or not self._same_ground(known.network, network):
            return None
        before = self._engines(known.world.with_possible_hosts)
        return before if all(part.fits(engine) for part in known.parts) else None

    def _proven(
        self, statement: Statement, world: World, network: Network, engine: BulkEngine, progress: Progress
    ) -> Proven:
        halves = [
            CoarseClasses(grounds, half)
            for family in ((statement.family,) if statement.family else Family)
            for grounds in (self._grounds_of(world, network, family, engine),)
            for half in _halves(statement, grounds)
        ]
        found: list[ProvenHalf] = []
        for number, classes in enumerate(halves):
            parts = parts_of(classes, part_of(progress, number, len(halves)))
            found.append(ProvenHalf(classes, tuple(parts)))
        proof, tried = self._proof(statement, found, world, engine, None)
        return Proven(statement, network, world, tuple(found), proof, tried)

    def _again(
        self, known: Proven, world: World, network: Network, engine: BulkEngine, before: BulkEngine
    ) -> Proven:
        halves = [
            ProvenHalf(half.classes, tuple(part.again(engine, before) for part in half.parts))
            for half in known.halves
        ]
        same = all(
            new is old
            for one, other in zip(halves, known.halves, strict=True)
            for new, old in zip(one.parts, other.parts, strict=True)
        )
        if same:
            proof = known.proof
            if known.network.placements != network.placements:
                proof = replace(proof, lists=_lists_met(known.parts, engine))
            return replace(known, world=world, network=network, proof=proof)
        proof, tried = self._proof(known.statement, halves, world, engine, known.tried)
        return Proven(known.statement, network, world, tuple(halves), proof, tried)

    def _same_ground(self, one: Network, other: Network) -> bool:
        """Whether two networks differ in lists and placements only; all proofs ask about one pair."""
        if self._compared is None or self._compared[0] is not one or self._compared[1] is not other:
            self._compared = one, other, one is other or _same_ground(one, other)
        return self._compared[2]

    def _grounds_of(self, world: World, network: Network, family: Family, engine: BulkEngine) -> ProofSpace:
        """With the engine that there is now: an earlier one of the same world may have been let go."""
        found = self._grounds.get((world, family))
        if found is None or found.engine is not engine:
            found = self._grounds[world, family] = ProofSpace(
                world.with_possible_hosts, network, family, engine
            )
        return found

    def _proof(
        self,
        statement: Statement,
        halves: Iterable[ProvenHalf],
        world: World,
        engine: BulkEngine,
        tried: Counter[Verdict] | None,
    ) -> tuple[Proof, Counter[Verdict] | None]:
        halves = tuple(halves)
        parts = [part for half in halves for part in half.parts]
        proof = Proof(
            Answer.PROVED,
            classes=sum(int(part.counts.sum()) for part in parts),
            conversations=sum(half.classes.conversations() for half in halves),
            paths=sum(part.paths() for part in parts),
            lists=_lists_met(parts, engine),
            violations=tuple(_violations(halves, ProofPart.cells)),
            counterexample=_counterexample(halves),
            reason="",
            undecided=sum(int(part.undecided.sum()) for part in parts),
            decided=sum(int((~part.undecided).sum()) for part in parts),
            kinds=max((int(part.many.max(initial=0)) for part in parts), default=0),
            crowded=sum(int(part.crowded.sum()) for part in parts),
            remaining=tuple(_violations(halves, ProofPart.remaining_cells)),
            answers=_only_answers_stopped(halves, engine),
            offered=tuple(_offered(statement, halves)),
        )
        if proof.counterexample is not None:
            return replace(proof, answer=Answer.VIOLATED), tried
        if proof.undecided:
            reason = _too_many(proof) if proof.kinds else _too_many_ways(proof)
            return replace(proof, answer=Answer.INCONCLUSIVE, reason=reason), tried
        if proof.conversations == 0:
            reason = (
                "It speaks of no conversation at all: nobody is on one of its sides, or nothing is asked."
            )
            return replace(proof, answer=Answer.INCONCLUSIVE, reason=reason), tried
        if statement.kind is RequirementKind.BLOCK:
            if tried is None:
                baseline = self._engines(world.with_possible_hosts.baseline)
                verdicts = (part.verdicts(baseline).verdict.tolist() for part in parts)
                tried = Counter(VERDICT_ORDER[each] for found in verdicts for each in found)
            if tried.keys() <= {Verdict.UNREACHABLE}:
                reason = (
                    "With no lists none of it gets there either: "
                    f"{tried.total()} kinds of conversations cannot be reached."
                )
                return replace(proof, answer=Answer.INCONCLUSIVE, reason=reason), tried
        return proof, tried


def _lists_met(parts: Iterable[ProofPart], engine: BulkEngine) -> tuple[str, ...]:
    return tuple(sorted({name for part in parts for name in part.lists(engine)}))


def _sure(proof: Proof) -> str:
    """How much is certain where there is too much to decide all."""
    return (
        f"of {proof.decided + proof.undecided:,} groups of conversations {proof.decided:,} are certain"
        if proof.decided
        else "none of it is certain"
    )


def _too_many(proof: Proof) -> str:
    return (
        f"There are too many kinds of address to decide exactly: {proof.kinds:,} or more where "
        f"{', '.join(proof.lists)} tell them apart by scattered wildcards. This much is certain: "
        f"{_sure(proof)}, and nothing that was tried of the others ({proof.classes:,} conversations in all) "
        "violates it."
    )


def _too_many_ways(proof: Proof) -> str:
    return (
        "There are more equal ways than can be followed where packets are rewritten on them, may come to a "
        "device twice, or pass many devices that keep sessions beside each other. This much is certain: "
        f"{_sure(proof)}, and nothing violates it on the {MOST_PATHS} ways of each other that were followed."
    )


def _same_ground(one: Network, other: Network) -> bool:
    """Whether two networks differ in lists and placements only, as far as proofs can see."""
    mine, its = (
        (each.devices, each.links, each.address_sets, each.port_sets, groups_of_frames(each.lists))
        for each in (one, other)
    )
    return mine == its


def _halves(statement: Statement, grounds: ProofSpace) -> Iterator[RequirementHalf]:
    indices, asks = grounds.endpoints, statement.asks
    strict = statement.kind is RequirementKind.ONLY
    sources = indices.of(statement.sources, strict=strict)
    if statement.kind is not RequirementKind.BLOCK:
        goals = (
            *indices.of(statement.destinations, strict=strict),
            *indices.published(statement.destinations),
        )
        yield RequirementHalf(Expectation.PASS, sources, tuple(index for index in goals if index.drawn), asks)
    if statement.kind is not RequirementKind.ALLOW:
        denied = sources if statement.kind is RequirementKind.BLOCK else indices.others(statement.sources)
        goals = indices.of(statement.destinations, translated=True, strict=strict)
        yield RequirementHalf(Expectation.BLOCK, denied, goals, asks)


def _violations(
    halves: Iterable[ProvenHalf], cells_of: Callable[[ProofPart], ClassRows]
) -> Iterator[Violation]:
    for expect in Expectation:
        boxes: list[Box] = []
        for half in halves:
            if half.classes.half.expect is expect:
                pieces = (*half.classes.sources, *half.classes.destinations)
                every = {(piece.device, piece.drawn, piece.region): None for piece in pieces}
                cells = map(cells_of, half.parts)
                boxes += boxes_of(half.classes.grounds.family, cells, PartyTotals(every))
        if boxes:
            yield Violation(expect, tuple(boxes))


def _counterexample(halves: Iterable[ProvenHalf]) -> Counterexample | None:
    """A violating conversation, if there is any: between drawn devices rather than possible ones."""
    best: tuple[int, RequirementHalf, ProofPart, int] | None = None
    for half in halves:
        for part in half.parts:
            if len(part.wrong) == 0:
                continue
            ranks = _oddness(part.cells())
            index = int(ranks.argmin())
            if best is None or ranks[index] < best[0]:
                best = int(ranks[index]), half.classes.half, part, index
    if best is None:
        return None
    _, asked, part, index = best
    cells, family = part.cells(), part.family
    source, destination = apart(
        cells.sources[cells.source[index]], cells.destinations[cells.destination[index]]
    )
    request = cells.services[cells.service[index]].first(family)
    flow = flow_between(family, source, destination, request, usual_port(cells.ports[cells.port[index]]))
    return Counterexample(flow, asked.expect, VERDICT_ORDER[part.wrong.verdict[index]])


def _oddness(cells: ClassRows) -> Ints:
    """How far each class is from what people would try: between drawn devices, from the usual port."""
    possible = [
        np.array([not party.drawn for party in side], dtype=np.int64)[index]
        for side, index in ((cells.sources, cells.source), (cells.destinations, cells.destination))
    ]
    odd = [bool(ports) and usual_port(ports) != USUAL_SOURCE_PORT for ports in cells.ports]
    ranks: Ints = 4 * possible[0] + 2 * possible[1] + np.array(odd, dtype=np.int64)[cells.port]
    return ranks


def _only_answers_stopped(halves: Iterable[ProvenHalf], engine: BulkEngine) -> Counterexample | None:
    """An unwanted conversation whose packets arrive, if only its answers are stopped."""
    for half in halves:
        for part in half.parts:
            if part.answers[part.of_hosts].any():
                return Counterexample(part.answered(engine), half.classes.half.expect, Verdict.BLOCKED)
    return None


def _offered(statement: Statement, halves: Iterable[ProvenHalf]) -> Iterator[tuple[str, tuple[str, ...]]]:
    """Devices, and what each has of services that a word asks for as a whole, to be let through."""
    if statement.header.fragment or not set(OPEN_WORDS) & set(statement.services):
        return
    found: dict[str, dict[str, None]] = {}
    for half in halves:
        classes = half.classes
        if classes.half.expect is Expectation.PASS:
            services = list(classes.services)
            for number, asked, _ in classes.goals.tolist():
                device = classes.destinations[number].device
                words = service_words(services[asked], classes.grounds.family)
                found.setdefault(device, {})[words] = None
    for device, has in found.items():
        yield device, tuple(has)
