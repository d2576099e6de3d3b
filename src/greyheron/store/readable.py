"""Whether what is about to be kept can be read again: the one place where that is asked."""

import json
from collections.abc import Sequence

from greyheron.model.changes import ITEM_TYPES, Change, key_of
from greyheron.model.document import Network, to_data
from greyheron.model.problems import DocumentError, Problem
from greyheron.model.read import item_problems


def require_readable(network: Network, *known: Network) -> None:
    """Raise DocumentError unless every item reads back as it is, by the reader that opens networks.

    known:  networks whose items are known to; only those that they do not have are read
    """
    for collection, item_type in ITEM_TYPES.items():
        seen = {id(item) for each in known for item in getattr(each, collection)}
        for item in getattr(network, collection):
            if id(item) in seen:
                continue
            data = json.loads(json.dumps(to_data(item)))
            where = f"{collection}, {key_of(collection, item)}"
            problems = item_problems(item_type, data, where)
            if problems or item_type.model_validate(data) != item:
                raise DocumentError(problems or [Problem(where, "this would not read back as it is")])


def require_readable_changes(changes: Sequence[Change], text: str) -> None:
    """Raise DocumentError unless `text`, which is to be kept, says `changes`."""
    if [Change.model_validate(each) for each in json.loads(text)] != list(changes):
        where = ", ".join(f"{each.collection} {each.key}" for each in changes)
        raise DocumentError([Problem(where, "this edit would not read back as it is")])
