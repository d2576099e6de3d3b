"""Changes: making them, taking them back, and finding them between two documents."""

import random

import pytest
from hypothesis import given
from hypothesis import strategies as st

from greyheron.demo.networks import saltmarsh
from greyheron.model.changes import ITEM_TYPES, Change, ChangeError, apply, difference, key_of, reversed_edit
from greyheron.model.document import Network, to_data

DEMO = saltmarsh()


def shuffled(network: Network, seed: int) -> Network:
    """`network` with items removed, moved and altered at random; not necessarily a sound document."""
    chance = random.Random(seed)
    update = {}
    for collection in ITEM_TYPES:
        items = [item for item in getattr(network, collection) if chance.random() < 0.8]
        if chance.random() < 0.5:
            chance.shuffle(items)
        items = [
            item.model_copy(update={"note": str(seed)})
            if "note" in type(item).model_fields and chance.random() < 0.3
            else item
            for item in items
        ]
        update[collection] = tuple(items)
    return network.model_copy(update=update)


@given(st.integers(0, 10_000), st.integers(0, 10_000))
def test_a_difference_leads_from_one_document_to_the_other_and_back(one: int, two: int) -> None:
    before, after = shuffled(DEMO, one), shuffled(DEMO, two)
    changes = difference(before, after)
    assert apply(before, changes) == after
    assert apply(after, reversed_edit(before, changes)) == before


def test_documents_that_are_the_same_do_not_differ() -> None:
    assert difference(DEMO, DEMO) == []


def test_an_item_can_be_renamed_in_its_place() -> None:
    first = DEMO.lists[0]
    item = {**to_data(first), "name": "renamed"}
    changes = [Change(collection="lists", key=first.name, item=item)]
    after = apply(DEMO, changes)
    assert key_of("lists", after.lists[0]) == "renamed"
    assert apply(after, reversed_edit(DEMO, changes)) == DEMO


def test_removing_what_is_not_there_is_an_error() -> None:
    with pytest.raises(ChangeError, match="no “nothing” in lists"):
        apply(DEMO, [Change(collection="lists", key="nothing")])
