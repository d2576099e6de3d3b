"""Worker processes: what they are told, what they answer, and what becomes of it when they end."""

import os
import pickle
import signal
import sys
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from random import Random
from threading import Event, Thread
from time import sleep
from typing import Any

import pytest

from greyheron.analysis.proof.policy import RequirementMarks
from greyheron.analysis.reach.question import ReachError, ReachQuestion
from greyheron.compute.derived import DerivedState
from greyheron.compute.documents import RunningAndDraft
from greyheron.compute.pooled import RemoteState
from greyheron.compute.questions.advice import AdviceQuestion
from greyheron.compute.questions.findings import FindingsQuestion
from greyheron.compute.questions.policy import PolicyQuestion
from greyheron.compute.questions.reach import MatrixQuestion, ReachChangeQuestion
from greyheron.compute.replication import MOST_TOLD, Listener, Packed, PackedOnce, SomeItems, Teller
from greyheron.compute.state import SMALL
from greyheron.compute.tasks import Order, WorkersGone
from greyheron.compute.workers import Workers
from greyheron.core.progress import Cancelled, unwatched
from greyheron.demo.generator import Plan, generate
from greyheron.demo.networks import saltmarsh
from greyheron.model.document import Network, Requirement
from greyheron.model.notation.requirements import read_requirement
from greyheron.model.values import Family
from tests.edits import edited_at_random
from tests.random_networks import random_network

QUESTION = ReachQuestion(("ping",), Family.IPV4)


pytestmark = pytest.mark.long


@pytest.fixture(scope="module")
def workers() -> Iterator[Workers]:
    found = Workers(2, 1 << 28)
    yield found
    found.close()


def heard(teller: Teller, listener: Listener, network: Network) -> tuple[Network, int]:
    """A document as the other side has it, and how many bytes went there."""
    token, pieces = teller.pieces(network, PackedOnce())
    size = 0
    for piece in pieces:
        size += len(piece)
        listener.hear(pickle.loads(piece))
    return listener.known[token], size


def test_a_network_that_is_gone_may_come_back(workers: Workers) -> None:
    there, stored = RemoteState("back", workers), RunningAndDraft.same(saltmarsh())
    before = there.ask(PolicyQuestion(), stored)
    there.forget()
    assert there.ask(PolicyQuestion(), stored) == before


@pytest.mark.parametrize("seed", range(5))
def test_documents_are_told_by_what_differs(seed: int) -> None:
    chance, network = Random(seed), random_network(seed)
    teller, listener = Teller(), Listener()
    known, whole = heard(teller, listener, network)
    assert known == network
    for _ in range(3 * MOST_TOLD):
        network = edited_at_random(network, chance)
        before, (known, size) = known, heard(teller, listener, network)
        assert known == network
        assert size < whole / 2
        kept = [each for each in known.lists if any(each is other for other in before.lists)]
        assert len(kept) >= len(known.lists) - 1
        assert len(listener.known) <= MOST_TOLD


def test_what_is_known_is_not_told_again() -> None:
    teller, network = Teller(), saltmarsh()
    token, pieces = teller.pieces(network, PackedOnce())
    assert list(pieces)
    again, nothing = teller.pieces(network, PackedOnce())
    assert (again, list(nothing)) == (token, [])


def test_large_documents_are_told_in_small_pieces() -> None:
    network = generate(Plan(routers=40, lists=40, entries=200, seed=1))
    _, pieces = Teller().pieces(network, PackedOnce())
    sizes = [
        sum(len(item.body.entries) for item in piece.fresh)
        for piece in map(pickle.loads, pieces)
        if isinstance(piece, SomeItems) and piece.collection == "lists"
    ]
    assert sum(sizes) == 8000
    assert max(sizes) <= 1200


def test_several_are_told_at_once_and_each_piece_is_packed_once() -> None:
    packing, network = PackedOnce(), generate(Plan(routers=40, lists=40, entries=20, seed=1))
    told = [Teller().pieces(network, packing)[1] for _ in range(3)]
    with ThreadPoolExecutor(3) as at_once:
        heard_by: list[list[Packed]] = list(at_once.map(list, told))
    for pieces in heard_by:
        assert all(one is other for one, other in zip(heard_by[0][:-1], pieces[:-1], strict=True))
        listener = Listener()
        for piece in pieces:
            listener.hear(pickle.loads(piece))
        assert listener.known == {0: network}


def test_who_knows_other_documents_is_told_something_else_meanwhile() -> None:
    packing, network = PackedOnce(), saltmarsh()
    bare = network.model_copy(update={"placements": ()})
    new, knowing, listener = Teller(), Teller(), Listener()
    heard(knowing, listener, bare)
    whole = list(new.pieces(network, packing)[1])
    token, pieces = knowing.pieces(network, packing)
    difference = list(pieces)
    assert sum(map(len, difference)) < sum(map(len, whole)) / 2
    for piece in difference:
        listener.hear(pickle.loads(piece))
    assert listener.known[token] == network


def test_an_emptied_collection_is_told() -> None:
    teller, listener, network = Teller(), Listener(), saltmarsh()
    heard(teller, listener, network)
    bare = network.model_copy(update={"placements": (), "lists": ()})
    assert heard(teller, listener, bare)[0] == bare


def test_workers_answer_as_this_process_does(workers: Workers) -> None:
    stored, here, there = (
        RunningAndDraft(saltmarsh(), saltmarsh()),
        DerivedState(),
        RemoteState("demo", workers),
    )
    assert there.ask(FindingsQuestion(), stored) == here.ask(FindingsQuestion(), stored)
    assert there.ask(PolicyQuestion(), stored) == here.ask(PolicyQuestion(), stored)
    statement = read_requirement("block visitors → ledger ssh")
    advice = there.ask(AdviceQuestion(statement=statement), stored)
    assert advice == here.ask(AdviceQuestion(statement=statement), stored)
    remote, local = (each.ask(MatrixQuestion(asked=QUESTION), stored) for each in (there, here))
    assert (remote.draft == local.draft).all()
    after = stored.draft.model_copy(update={"placements": ()})
    change = there.ask(ReachChangeQuestion(), RunningAndDraft(stored.draft, after))
    assert change == here.ask(ReachChangeQuestion(), RunningAndDraft(stored.draft, after))
    assert change is not None


def test_workers_share_the_work_of_a_large_network(workers: Workers) -> None:
    network = generate(Plan(routers=41, lists=20, entries=20, seed=3))
    assert len(network.devices) > SMALL
    here, there, stored = DerivedState(), RemoteState("large", workers), RunningAndDraft(network, network)
    assert there.ask(FindingsQuestion(), stored) == here.ask(FindingsQuestion(), stored)
    marks = there.ask(PolicyQuestion(), stored)
    assert marks == here.ask(PolicyQuestion(), stored)
    assert [each.id for each in marks] == [each.id for each in network.requirements]


def test_what_is_found_is_told_as_it_comes(workers: Workers) -> None:
    network = generate(Plan(routers=41, lists=20, entries=20, seed=3))
    statement = read_requirement("block h1 → h2 ssh")
    stored = RunningAndDraft.same(network)
    for state in (DerivedState(), RemoteState("told", workers)):
        marks, found, choices = list[Any](), list[Any](), list[Any]()
        state.ask(PolicyQuestion(), stored, unwatched, marks.extend)
        every = state.ask(FindingsQuestion(), stored, unwatched, found.extend)
        advice = state.ask(AdviceQuestion(statement=statement), stored, unwatched, choices.extend)
        ids = [each.id for each in state.ask(PolicyQuestion(), stored)]
        assert {each.id for each in marks} <= set(ids)
        assert found
        assert {each.key for each in found} <= {each.key for each in every}
        assert choices
        assert all(each.changes in [choice.changes for choice in advice.choices] for each in choices)


def test_requirements_that_are_looked_at_are_proved_first(workers: Workers) -> None:
    network = generate(Plan(routers=5, lists=3, entries=20, seed=3))
    required = tuple(
        Requirement(id=f"r{number}", statement=read_requirement(f"block h1 → h{number} ssh"))
        for number in range(2, 6)
    )
    stored = RunningAndDraft.same(network.model_copy(update={"requirements": required}))
    here, there = DerivedState(), RemoteState("sooner", workers)
    told = list[RequirementMarks]()
    marks = here.ask(PolicyQuestion(first=frozenset({"r5", "r4", "gone"})), stored, unwatched, told.extend)
    assert [each.id for each in told] == ["r4", "r5", "r2", "r3"]
    assert [each.id for each in marks] == ["r2", "r3", "r4", "r5"]
    assert there.ask(PolicyQuestion(first=frozenset({"r5"})), stored) == marks


def test_a_worker_that_ends_costs_a_retry(workers: Workers) -> None:
    stored, there = RunningAndDraft(saltmarsh(), saltmarsh()), RemoteState("killed", workers)
    before = workers.pids()
    for pid in before:
        os.kill(pid, signal.SIGKILL)
    assert there.ask(FindingsQuestion(), stored) == DerivedState().ask(FindingsQuestion(), stored)
    there.ask(PolicyQuestion(), stored)
    assert set(workers.pids()).isdisjoint(before)


def test_a_worker_that_ends_in_the_middle_costs_a_retry(workers: Workers) -> None:
    network = generate(Plan(routers=20, lists=20, entries=100, seed=4))
    there = RemoteState("middle", workers)

    def end_them() -> None:
        sleep(0.3)
        for pid in workers.pids():
            with suppress(ProcessLookupError):  # it may have ended, and not been replaced yet
                os.kill(pid, signal.SIGKILL)

    ending = Thread(target=end_them)
    ending.start()
    found = there.ask(FindingsQuestion(), RunningAndDraft(network, network))
    ending.join()
    assert found == DerivedState().ask(FindingsQuestion(), RunningAndDraft(network, network))


@pytest.mark.skipif(sys.platform != "linux", reason="counts what the system says is open")
def test_workers_that_are_killed_leave_nothing_open(workers: Workers) -> None:
    there = RemoteState("pipes", workers)
    stored = RunningAndDraft(saltmarsh(), saltmarsh())
    there.ask(FindingsQuestion(), stored)
    before = len(os.listdir("/proc/self/fd"))
    for _ in range(8):
        for pid in workers.pids():
            with suppress(ProcessLookupError):
                os.kill(pid, signal.SIGKILL)
        there.ask(FindingsQuestion(), stored)
    assert len(os.listdir("/proc/self/fd")) <= before + len(workers)


def test_workers_that_end_again_and_again_are_told_of(workers: Workers) -> None:
    network = generate(Plan(routers=20, lists=20, entries=100, seed=4))
    there, over = RemoteState("again", workers), Event()

    def end_them() -> None:
        while not over.wait(0.05):
            for pid in workers.pids():
                with suppress(ProcessLookupError):  # ended, and not replaced yet
                    os.kill(pid, signal.SIGKILL)

    ending = Thread(target=end_them)
    ending.start()
    try:
        with pytest.raises(WorkersGone, match="--workers 0"):
            there.ask(FindingsQuestion(), RunningAndDraft(network, network))
    finally:
        over.set()
        ending.join()
    stored = RunningAndDraft(saltmarsh(), saltmarsh())
    assert there.ask(PolicyQuestion(), stored) == DerivedState().ask(PolicyQuestion(), stored)


def test_what_a_worker_raises_is_raised_here(workers: Workers) -> None:
    nowhere = MatrixQuestion(asked=ReachQuestion(("there-is-none",), Family.IPV4))
    with pytest.raises(ReachError, match="there-is-none"):
        workers.results("wrong", [Order(0, nowhere, RunningAndDraft(saltmarsh(), saltmarsh()))])


def test_work_that_nobody_waits_for_ends(workers: Workers) -> None:
    network = generate(Plan(routers=40, lists=40, entries=200, seed=5))
    there, seen = RemoteState("given-up", workers), list[float]()

    def give_up(done: float) -> None:
        seen.append(done)
        if len(seen) > 3:
            raise Cancelled

    with pytest.raises(Cancelled):
        there.ask(FindingsQuestion(), RunningAndDraft(network, network), give_up)
    assert seen == sorted(seen)
    stored = RunningAndDraft(saltmarsh(), saltmarsh())
    assert there.ask(FindingsQuestion(), stored) == DerivedState().ask(FindingsQuestion(), stored)


def test_what_is_begun_beside_what_cannot_be_is_ended(
    workers: Workers, monkeypatch: pytest.MonkeyPatch
) -> None:
    begun, begin = [], workers._begin

    def begin_only_the_first(network: str, asked: Order, packing: PackedOnce) -> Any:
        if asked.worker != 0:
            raise WorkersGone("No process can be started.")
        begun.append(begin(network, asked, packing))
        return begun[0]

    monkeypatch.setattr(workers, "_begin", begin_only_the_first)
    network = generate(Plan(routers=40, lists=40, entries=200, seed=5))
    both = RunningAndDraft(network, network)
    with pytest.raises(WorkersGone):
        workers.results("alone", [Order(number, FindingsQuestion(), both) for number in range(2)])
    with pytest.raises(Cancelled):
        begun[0].future.result(timeout=60)
