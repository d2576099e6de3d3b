"""What is acknowledged is kept where it can be found and read; what cannot be, is said."""

import copy
import json
from pathlib import Path
from random import Random
from typing import Any

import pytest
from fastapi.testclient import TestClient
from sqlalchemy import Engine, text

from greyheron.demo.networks import saltmarsh
from greyheron.model.changes import ITEM_TYPES
from greyheron.model.document import FORMAT, to_data
from greyheron.model.problems import DocumentError
from greyheron.model.read import read_network, read_what_reads
from greyheron.store.database import open_database
from greyheron.store.networks import NetworkStore
from greyheron.store.readable import require_readable


def damaged(engine: Engine, network: str, change: str) -> None:
    with engine.begin() as connection:
        connection.execute(
            text(f"UPDATE documents SET draft = {change} WHERE network_id = :id"), {"id": network}
        )


def test_what_reads_of_a_damaged_network_becomes_one_and_the_rest_is_named(
    client: TestClient, engine: Engine
) -> None:
    made = client.post("/api/networks/demo").json()["id"]
    path = f"/api/networks/{made}"
    whole = len(client.get(path).json()["draft"]["devices"])
    damaged(engine, made, 'replace(draft, \'"kind": "firewall"\', \'"kind": "bridge of sighs"\')')
    with engine.begin() as connection:
        connection.execute(text("UPDATE network SET version = version + 1"))
    answer = client.get(path)
    assert answer.status_code == 409
    assert "device weir, kind" in answer.json()["detail"]

    kept = client.get(f"{path}/kept").json()
    assert '"bridge of sighs"' in kept["draft"]
    assert "firewall" in kept["running"]

    mended = client.post(f"{path}/mend")
    assert mended.status_code == 201
    told = {each["where"] for each in mended.json()["left_out"]}
    assert "device weir, kind" in told
    assert any(where.startswith("link ") and "weir" in where for where in told)
    found = client.get(f"/api/networks/{mended.json()['id']}").json()["draft"]
    assert len(found["devices"]) == whole - 1
    assert all("weir" not in end for link in found["links"] for end in link["ends"])
    assert client.get(path).status_code == 409


def test_edits_since_are_made_again_as_far_as_they_fit(client: TestClient, engine: Engine) -> None:
    made = client.post("/api/networks/demo").json()["id"]
    path = f"/api/networks/{made}"
    etag = client.get(path).headers["etag"]
    for statement in ("block kiosk → ledger tcp/1000", "block weir → ledger tcp/1001"):
        etag = client.post(
            f"{path}/draft/intents",
            headers={"If-Match": etag},
            json={"do": "require", "statement": statement},
        ).headers["etag"]
    damaged(engine, made, 'replace(draft, \'"kind": "firewall"\', \'"kind": "bridge of sighs"\')')
    mended = client.post(f"{path}/mend").json()
    found = client.get(f"/api/networks/{mended['id']}").json()["draft"]
    statements = [each["statement"] for each in found["requirements"]]
    assert "block kiosk → ledger tcp/1000" in statements
    assert "block weir → ledger tcp/1001" not in statements
    assert any(each["where"] == "edits" for each in mended["left_out"])


def test_of_what_is_no_document_nothing_is_made(client: TestClient, engine: Engine) -> None:
    made = client.post("/api/networks/demo").json()["id"]
    damaged(engine, made, "substr(draft, 1, 4000)")
    answer = client.post(f"/api/networks/{made}/mend")
    assert answer.status_code == 422
    assert "it is no JSON" in answer.json()["detail"]
    assert len(client.get("/api/networks").json()) == 1


def spoilt(data: dict[str, Any], chance: Random) -> str:
    """Something in a document that is no longer as it should be."""
    collection = chance.choice([name for name in ITEM_TYPES if data.get(name)])
    item = chance.choice(data[collection])
    field = chance.choice(list(item))
    item[field] = chance.choice([None, -1, "", "no such thing", [], {"odd": 1}, [None], 10**30])
    return f"{collection} {field}"


@pytest.mark.parametrize("seed", range(40))
def test_whatever_is_damaged_what_reads_is_a_network(seed: int) -> None:
    chance, data = Random(seed), {"format": FORMAT, **copy.deepcopy(to_data(saltmarsh()))}
    what = [spoilt(data, chance) for _ in range(chance.randint(1, 4))]
    found, said = read_what_reads(json.loads(json.dumps(data)))
    assert read_network({"format": FORMAT, **to_data(found)}) == found
    try:
        read_network(data)
    except DocumentError:
        assert said, what
    else:
        assert not said, what
    assert len(found.devices) >= len(data["devices"]) - len(what)


def test_nothing_is_acknowledged_that_has_no_place(client: TestClient, tmp_path: Path) -> None:
    made = client.post("/api/networks/demo").json()["id"]
    elsewhere = tmp_path / "elsewhere.db"
    database = tmp_path / "networks.db"
    database.rename(elsewhere)
    for answer in (
        client.post("/api/networks/demo"),
        client.get(f"/api/networks/{made}"),
        client.get("/health"),
        client.post(f"/api/networks/{made}/copy", json={"name": "Second"}),
    ):
        assert answer.status_code == 503
        assert "is no longer there: nothing was written" in answer.json()["detail"]
    assert not database.exists()
    elsewhere.rename(database)
    assert client.get("/health").json()["status"] == "well"
    assert len(client.get("/api/networks").json()) == 1


def test_another_file_in_its_place_is_not_written_to(tmp_path: Path) -> None:
    mine, other = tmp_path / "mine" / "networks.db", tmp_path / "other" / "networks.db"
    store = NetworkStore(open_database(mine))
    store.create(saltmarsh())
    open_database(other).dispose()
    other.replace(mine)
    with pytest.raises(Exception, match="was replaced by another file"):
        store.create(saltmarsh())


def test_what_would_not_read_back_is_not_kept() -> None:
    network = saltmarsh()
    require_readable(network)
    position = network.positions[0].model_copy(update={"x": float("inf")})
    odd = network.model_copy(update={"positions": (position, *network.positions[1:])})
    with pytest.raises(DocumentError, match="positions, "):
        require_readable(odd, network)
