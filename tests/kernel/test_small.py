"""Machine sets of kinds that are met everywhere, and random ones: nothing goes otherwise than is said."""

from typing import Any

import pytest

from greyheron.rehearsal.runner import missing
from tests.kernel.held import held, in_namespaces
from tests.kernel.small import EXAMPLES, SETS

pytestmark = pytest.mark.skipif(bool(missing()), reason=" ".join(missing()) or "namespaces can be had")
NOT_KNOWN = {
    "bans before the main filter",
    "two filters that permit",
    "a limit",
    "a rule of a routing policy",
    "rewriting that cannot be said",
    "passing on by one interface, with sessions",
    "addresses of the local table",
    "bridged packets that meet the filter",
}
"""Of these something is not known, and said not to be."""
RANDOM = ("7000", "10")


@pytest.fixture(scope="module")
def small() -> Any:
    return in_namespaces("tests.kernel.small")


@pytest.mark.parametrize("name", [each.name for each in SETS])
def test_a_small_set_does_what_is_said_of_it(small: Any, name: str) -> None:
    found = held(small[name])
    assert found.unlike == ()
    assert bool(found.notices) is (name in NOT_KNOWN), found.notices
    assert found.not_known <= found.seen / 2, "too little of it is known"


def test_most_is_known_of_usual_sets(small: Any) -> None:
    every = [held(found) for found in small.values()]
    assert sum(each.not_known for each in every) < sum(each.seen for each in every) / 20


def test_random_sets_do_what_is_said_of_them() -> None:
    sets = in_namespaces("tests.kernel.small", *RANDOM)
    every = {name: held(found) for name, found in sets.items() if found is not None}
    assert {name: each.unlike for name, each in every.items() if each.unlike} == {}
    assert sum(each.seen - each.not_known for each in every.values()) > 50


@pytest.mark.skipif(not EXAMPLES.is_dir(), reason="the packet filter's examples are not here")
def test_the_rule_sets_that_come_with_the_packet_filter_do_what_is_said_of_them() -> None:
    sets = in_namespaces("tests.kernel.small", "examples")
    every = {name: held(found) for name, found in sets.items() if found is not None}
    assert {name: each.unlike for name, each in every.items() if each.unlike} == {}
    assert {"workstation", "nat", "sets_and_maps", "overview", "all-in-one", "ct_helpers"} <= set(every)
