"""Writes that are answered by what differs: it comes to the same, and does not grow with the network."""

from random import Random
from typing import Any

import pytest
from fastapi.testclient import TestClient

from greyheron.demo.generator import Plan, generate
from greyheron.store.networks import NetworkStore

MINIMAL = {"Prefer": "return=minimal"}


def opened(client: TestClient, network: str) -> Any:
    return whole(client.get(f"/api/networks/{network}").raise_for_status().json())


def written(client: TestClient, held: Any, path: str, body: Any = None) -> Any:
    """The answer to a write that is based on `held`."""
    headers = {"If-Match": f'"{held["version"]}"', **MINIMAL}
    return client.post(f"/api/networks/{held['id']}/{path}", json=body, headers=headers)


def differing(held: Any, told: Any) -> Any:
    """What the workbench makes of a network by what of it is not as in `held`."""
    made = {**held, **told["fields"]}
    for name, runs in told["collections"].items():
        items = held[name]
        made[name] = [
            item for run in runs for item in (items[run[0] : run[1]] if isinstance(run, list) else [run])
        ]
    return made


def whole(told: Any) -> Any:
    """A network as it is told, with what is running whole."""
    return {**told, "running": differing(told["draft"], told["running"])}


def patched(held: Any, patch: Any) -> Any:
    draft = differing(held["draft"], patch["draft"])
    running = draft if patch["applied"] else held["running"]
    return {**held, "version": patch["version"], "draft": draft, "running": running}


STEPS: list[tuple[str, Any]] = [
    ("draft/intents", {"do": "new-list", "name": "fresh", "family": "ipv4", "kind": "extended"}),
    ("draft/intents", {"do": "require", "statement": "block visitors → ledger ssh"}),
    ("draft/undo", None),
    ("draft/redo", None),
    ("draft/apply", {"note": "in force"}),
    ("draft/edits", {"label": "gone", "changes": [{"collection": "lists", "key": "fresh"}]}),
    ("draft/discard", None),
    ("revisions/1/restore", None),
]


def test_a_patch_makes_what_is_read_anew(client: TestClient) -> None:
    held = whole(client.post("/api/networks/demo").json())
    for path, body in STEPS:
        answer = written(client, held, path, body)
        assert answer.is_success, (path, answer.text)
        patch, anew = answer.json(), opened(client, held["id"])
        assert patch["base"] == held["version"], path
        assert answer.headers["preference-applied"] == "return=minimal"
        held = patched(held, patch)
        assert (held["draft"], held["running"]) == (anew["draft"], anew["running"]), path
        keys = [(each["collection"], each["key"]) for each in patch["changes"]]
        assert keys == [(each["collection"], each["key"]) for each in anew["changes"]], path
        assert (patch["undo"], patch["redo"]) == (anew["undo"], anew["redo"])


def test_random_edits_are_told_by_patches(client: TestClient) -> None:
    chance, held = Random(1), whole(client.post("/api/networks/demo").json())
    for number in range(25):
        collection = chance.choice(("lists", "tests", "requirements"))
        item = dict(chance.choice(held["draft"][collection]))
        key = item["name" if collection == "lists" else "id"]
        gone = chance.random() < 0.2 and collection != "lists"
        change = {"collection": collection, "key": key}
        if not gone:
            change |= {"item": {**item, "note": f"note {number}"}}
        patch = written(client, held, "draft/edits", {"label": "x", "changes": [change]}).json()
        held = patched(held, patch)
    anew = opened(client, held["id"])
    assert (held["draft"], held["running"]) == (anew["draft"], anew["running"])


def test_what_is_running_is_told_by_what_is_not_as_in_the_draft(client: TestClient) -> None:
    told = client.post("/api/networks/demo").json()
    path, version = f"/api/networks/{told['id']}", {"If-Match": '"1"'}
    assert told["running"] == {"collections": {}, "fields": {}}
    drop = {"label": "x", "changes": [{"collection": "tests", "key": "t1"}]}
    edited = client.post(f"{path}/draft/edits", json=drop, headers=version).raise_for_status().json()
    assert edited["running"] == {"collections": {"tests": [told["draft"]["tests"][0], [0, 25]]}, "fields": {}}
    assert whole(edited)["running"] == told["draft"]


@pytest.mark.parametrize("routers", [10, 40])
def test_an_edit_of_a_larger_network_is_answered_as_shortly(
    client: TestClient, store: NetworkStore, routers: int
) -> None:
    stored = store.create(generate(Plan(routers=routers, lists=routers, entries=50, seed=1)))
    held = opened(client, stored.id)
    answer = written(client, held, "draft/intents", {"do": "require", "statement": "block h1 → h2 ssh"})
    assert len(answer.content) < 1000
    assert len(client.get(f"/api/networks/{stored.id}").content) > 50 * len(answer.content)


def test_who_does_not_ask_for_it_is_told_all(client: TestClient) -> None:
    held = client.post("/api/networks/demo").json()
    headers = {"If-Match": f'"{held["version"]}"'}
    body = {"do": "require", "statement": "block visitors → ledger ssh"}
    answer = client.post(f"/api/networks/{held['id']}/draft/intents", json=body, headers=headers)
    assert {"running", "draft", "made"} <= answer.json().keys()
