"""What a rehearsal is asked to try: flows, for test flows and for requirements."""

from collections.abc import Collection, Iterator
from hashlib import sha256

from msgspec import Struct

from greyheron.analysis.proof.prover import Prover
from greyheron.analysis.proof.witnesses import witnesses
from greyheron.core.bulk.engines import engines
from greyheron.core.timeline import Timeline
from greyheron.model.changes import OF_THE_NETWORK
from greyheron.model.document import Network
from greyheron.model.flow import Flow


class Selection(Struct, frozen=True):
    """The ids of the test flows and requirements to rehearse."""

    tests: Collection[str]
    requirements: Collection[str]

    @classmethod
    def all_of(cls, network: Network) -> "Selection":
        return cls([test.id for test in network.tests], [each.id for each in network.requirements])


def ground_of(network: Network) -> str:
    """A digest of all in a network on which a rehearsal of it rests."""
    return sha256(network.model_dump_json(include=set(OF_THE_NETWORK)).encode()).hexdigest()


class RehearsedFlow(Struct, frozen=True):
    """A flow to try, and for which test flow or requirement: one of the two is None."""

    flow: Flow
    test: str | None = None
    requirement: str | None = None


def asked_of(network: Network, selection: Selection) -> list[RehearsedFlow]:
    """The flows of the tests, and for each requirement what violates it and witnesses (§10)."""
    tests = [
        RehearsedFlow(test.flow.flow, test=test.id) for test in network.tests if test.id in selection.tests
    ]
    return [*tests, *(_witnesses(network, selection.requirements) if selection.requirements else ())]


def _witnesses(network: Network, ids: Collection[str]) -> Iterator[RehearsedFlow]:
    prover, timeline = Prover(engines()), Timeline.build(network)
    for each in network.requirements:
        if each.id in ids:
            for flow in witnesses(prover, each.statement, timeline):
                yield RehearsedFlow(flow, requirement=each.id)
