"""What is kept: bounded, the least used let go first, and gone when nothing needs it."""

import gc
import weakref
from concurrent.futures import ThreadPoolExecutor

import pytest
from cachetools import TTLCache

from greyheron.analysis.proof.prover import Prover
from greyheron.analysis.reach.question import ReachQuestion
from greyheron.analysis.testing.book import States, Tries, mark_tests
from greyheron.compute import state as compute_state
from greyheron.compute.cache import BoundedCache
from greyheron.compute.derived import DerivedState, DerivedStates
from greyheron.compute.questions.book import BookQuestion
from greyheron.compute.questions.findings import FindingsQuestion
from greyheron.compute.questions.policy import PolicyQuestion
from greyheron.compute.questions.reach import MatrixQuestion
from greyheron.core.bulk import engines as bulk_engines
from greyheron.core.bulk import indexes
from greyheron.core.bulk.engines import MOST_ENGINES, engines
from greyheron.core.routing import under_lists
from greyheron.core.timeline import Timeline
from greyheron.core.world import World, build_world
from greyheron.demo.networks import saltmarsh
from greyheron.model.changes import Change
from greyheron.model.document import Network, to_data
from greyheron.model.notation import lists as notation
from greyheron.model.notation.lists import ENTRY, MOST_READ
from greyheron.model.read import edited
from greyheron.model.values import Family, ListKind
from greyheron.store.stored import Stored


def with_entry(network: Network, number: int) -> Network:
    old = next(each for each in network.lists if each.name == "hides-in")
    entries = (
        f"1 deny tcp from 172.20.{number % 200}.0/24 to any port {number + 1}\n{to_data(old)['entries']}"
    )
    change = Change(collection="lists", key="hides-in", item={**to_data(old), "entries": entries})
    return edited(network, [change])


def stored(draft: Network) -> Stored:
    return Stored("n", 1, saltmarsh(), draft, None, None)


def test_the_least_used_goes_first_and_something_large_stays_all_the_same() -> None:
    kept: BoundedCache[str, int] = BoundedCache(100, lambda value: value)
    for key, size in (("a", 25), ("b", 25), ("c", 25), ("d", 25)):
        kept.put(key, size)
    kept.get("a")
    kept.put("e", 25)
    assert [key for key, _ in kept.items()] == ["c", "d", "a", "e"]
    kept.put("huge", 10**9)
    assert kept.get("huge") == 10**9
    assert kept.nbytes <= 100


def test_what_proofs_rest_on_is_found_again_however_much_else_is_asked_for(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setattr(indexes, "MOST_INDEXES", 1)
    network, found = saltmarsh(), engines()
    world, prover = build_world(network), Prover(found)
    known = prover.prove(network.requirements[0].statement, world, network)
    everyone = world.with_possible_hosts
    for other in (everyone.baseline, world, world.baseline):
        for family in Family:
            found(other).forwarding(family)
    later = build_world(with_entry(network, 1), world).with_possible_hosts
    assert known.parts
    assert all(part.fits(found(later)) for part in known.parts)


def test_what_is_known_of_a_network_goes_with_it() -> None:
    gone: list[DerivedState] = []

    class Noting(DerivedState):
        def forget(self) -> None:
            gone.append(self)

    states = DerivedStates(made=lambda _: Noting())
    state = states.of("n")
    states.forget("n")
    states.forget("nobody asked about this one")
    assert gone == [state]
    assert states.of("n") is not state


def test_two_small_networks_do_not_drive_each_other_out() -> None:
    """However little memory a worker has."""
    states = DerivedStates(memory=256 << 20)
    made = {name: states.of(name) for name in ("one", "other")}
    for state in made.values():
        network = saltmarsh()
        state.ask(PolicyQuestion(), stored(network))
        state.ask(FindingsQuestion(), stored(network))
        for number in range(compute_state.MOST_WORLDS):
            state.world(with_entry(network, number + 1))
    assert {name: states.of(name) for name in made} == made


def test_what_is_known_of_a_network_goes_at_once() -> None:
    """It does not wait for the search for circles."""
    network, states = saltmarsh(), DerivedStates()
    state = states.of("n")
    state.ask(PolicyQuestion(), stored(network))
    state.ask(FindingsQuestion(), stored(network))
    world = weakref.ref(state.world(network))
    engine = weakref.ref(state.engine(state.world(network)))
    gc.disable()
    try:
        states.forget("n")
        assert (world(), engine()) == (None, None)
    finally:
        gc.enable()
    assert state.ask(PolicyQuestion(), stored(network))


def test_of_large_networks_only_some_indexes_are_kept(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(indexes, "INDEX_BYTES", 0)
    monkeypatch.setattr(indexes, "LEAST_INDEXES", 2)
    world, made = build_world(saltmarsh()), indexes.ForwardingIndexes()
    asked = [(each, family) for each in (world, world.baseline) for family in Family]
    seen = [weakref.ref(made.of(each, family)[0]) for each, family in asked]
    gc.collect()
    assert [each() is not None for each in seen] == [False, True, True, True]


def test_routes_that_a_world_has_are_found_again_whatever_lists_part_meanwhile(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setattr(under_lists, "MOST_ROUTINGS", 1)
    network = saltmarsh()
    world = build_world(network)
    routing = world.routes.routing(Family.IPV4)
    placed = {"list": "from-beyond", "device": "sluice", "at": "wan1", "direction": "in"}
    change = Change(collection="placements", key="sluice:wan1:in:from-beyond", item=placed)
    apart = build_world(edited(network, [change]), world)
    assert apart.routes.routing(Family.IPV4) is not routing
    later = build_world(with_entry(network, 1), apart)
    assert later.routes.routing(Family.IPV4) is routing


@pytest.fixture
def few_are_kept(monkeypatch: pytest.MonkeyPatch) -> None:
    """So that a dozen edits are more than is kept."""
    monkeypatch.setattr(compute_state, "MOST_WORLDS", 4)
    monkeypatch.setattr(bulk_engines, "MOST_ENGINES", 4)
    monkeypatch.setattr(bulk_engines, "LEAST_ENGINES", 2)


@pytest.mark.usefixtures("few_are_kept")
def test_lists_that_edits_left_behind_are_given_back_with_their_tables() -> None:
    """Also those at which neighbours are asked for, and those between routers that talk OSPF."""
    names, derived, seen = ("from-beyond", "lab-six"), DerivedState(), list[weakref.ref[object]]()
    for number in range(20):
        network = saltmarsh()
        for name in names:
            old = to_data(next(each for each in network.lists if each.name == name))
            item = {**old, "entries": f"1 deny tcp from any to any port {number + 1}\n{old['entries']}"}
            network = edited(network, [Change(collection="lists", key=name, item=item)])
        resolved = derived.world(network).resolved
        seen += [weakref.ref(resolved[name]) for name in names]
        derived.ask(PolicyQuestion(), stored(network))
        del resolved
    gc.collect()
    assert sum(each() is not None for each in seen) < len(seen) / 2


@pytest.mark.long
@pytest.mark.usefixtures("few_are_kept")
def test_worlds_that_an_edit_left_behind_are_given_back() -> None:
    derived, seen = DerivedState(), list[weakref.ref[World]]()
    for number in range(12):
        network = with_entry(saltmarsh(), number)
        world = derived.world(network)
        seen.append(weakref.ref(world))
        derived.ask(BookQuestion(), stored(network))
        derived.ask(PolicyQuestion(), stored(network))
        derived.ask(FindingsQuestion(), stored(network))
        derived.ask(MatrixQuestion(asked=ReachQuestion(("ping",), Family.IPV4)), stored(network))
        del world
    gc.collect()
    alive = sum(each() is not None for each in seen)
    assert alive <= 4 + 4


def test_engines_of_worlds_long_gone_are_not_kept() -> None:
    engine = engines()
    worlds = [
        weakref.ref(world)
        for world in (build_world(saltmarsh()) for _ in range(MOST_ENGINES + 5))
        if engine(world)
    ]
    gc.collect()
    assert sum(each() is not None for each in worlds) <= MOST_ENGINES


def test_networks_that_were_asked_about_least_are_let_go() -> None:
    every = DerivedStates(memory=1)
    first = every.of("a")
    first.world(saltmarsh())
    assert every.of("a") is first
    every.of("b").world(saltmarsh())
    assert every.of("b").nbytes > 0
    assert every.of("a") is not first


def test_lists_that_are_read_again_and_again_are_bounded() -> None:
    cache = notation.read_body.cache
    assert isinstance(cache, TTLCache)
    long = "\n".join(f"permit tcp from any to any port {port}" for port in range(1, 1001))
    for number in range(MOST_READ // (1000 * ENTRY) + 20):
        notation.read_body(f"# {number}\n{long}", Family.IPV4, ListKind.EXTENDED)
    assert MOST_READ - 2000 * ENTRY < cache.currsize <= MOST_READ
    body = next(each for each in saltmarsh().lists if each.name == "hides-in").body
    text = notation.write_body(body, Family.IPV4, next(iter(saltmarsh().lists)).kind)
    assert notation.write_body(body, Family.IPV4, next(iter(saltmarsh().lists)).kind) is text


def test_tries_may_be_asked_from_many_threads_at_once() -> None:
    tries = Tries()
    worlds = [build_world(with_entry(saltmarsh(), number)) for number in range(12)]
    with ThreadPoolExecutor(8) as pool:
        found = list(
            pool.map(
                lambda world: mark_tests(saltmarsh().tests, States.of(Timeline.still(world)), tries),
                worlds * 4,
            )
        )
    assert len({mark.draft.verdict for marks in found for mark in marks if mark.id == "t2"}) == 1
