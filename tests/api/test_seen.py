"""Traffic over the API: read, judged in every state, and the entries that would let it through."""

import json
from typing import Any

import pytest
from fastapi.testclient import TestClient
from sqlalchemy import Engine

from greyheron.server.access import Access
from greyheron.server.app import make_app
from tests.unit.test_traffic import CAMHUB, CONVERSATION, KIOSK, LEDGER, pcap
from tests.working import answered

TABLE = f"src,dst,proto,dport,back\n{KIOSK},{LEDGER},tcp,443,3\n172.20.40.20,{CAMHUB},tcp,443,0\n"


@pytest.fixture
def path(client: TestClient) -> str:
    return f"/api/networks/{client.post('/api/networks/demo').json()['id']}/traffic"


def read(client: TestClient, path: str, *contents: bytes, **more: Any) -> Any:
    files = [("files", (f"{number}", content)) for number, content in enumerate(contents)]
    return answered(client, client.post(path, files=files, **more))


def judged(client: TestClient, path: str) -> Any:
    return answered(client, client.post(f"{path}/verdicts")).json()["result"]


def test_two_files_of_one_name_are_refused_and_neither_is_dropped(client: TestClient, path: str) -> None:
    for where in (path, "/api/bring"):
        same = [("files", ("flows.csv", TABLE.encode())), ("files", ("flows.csv", b"src,dst,proto\n"))]
        refused = client.post(where, files=same)
        assert refused.status_code == 422
        assert "Two files are called “flows.csv”" in refused.json()["detail"]


def test_what_was_there_is_judged_and_again_after_an_edit(client: TestClient, path: str) -> None:
    found = read(client, path, pcap(*CONVERSATION), TABLE.encode()).json()["result"]
    assert (found["kinds"], found["records"], found["conversations"]) == (
        ["a packet capture", "a table of flows"], 5, 2
    )  # fmt: skip
    report = judged(client, path)
    assert (report["count"], report["would_stop"], report["cannot_be"], report["stopped"]) == (2, 0, 0, 1)
    rows = {row["from_device"]: row for row in report["rows"]}
    assert rows["kiosk"]["draft"] == "passes"
    assert rows["ringing-desk"]["decided"] == "hides-in entering hide-gw by eth1, implicit deny"
    network = path.removesuffix("/traffic")
    version = client.get(network).json()["version"]
    deny = {"name": "visitors-in", "family": "ipv4", "kind": "extended", "entries": "10 deny tcp"}
    place = {"list": "visitors-in", "device": "centre-gw", "at": "eth1", "direction": "in"}
    changes = [
        {"collection": "lists", "key": "visitors-in", "item": deny},
        {"collection": "placements", "key": "centre-gw:eth1:in:visitors-in", "item": place},
    ]
    client.post(
        f"{network}/draft/edits",
        json={"label": "deny", "changes": changes},
        headers={"If-Match": f'"{version}"'},
    ).raise_for_status()
    report = judged(client, path)
    assert (report["would_stop"], report["stopped"]) == (1, 2)
    assert report["rows"][0]["decided"] == "visitors-in entering centre-gw by eth1, entry 10"
    assert (report["rows"][0]["running"], report["rows"][0]["draft"]) == ("passes", "blocked")


def test_entries_that_would_let_it_through(client: TestClient, path: str) -> None:
    read(client, path, TABLE.encode())
    stopped = next(row for row in judged(client, path)["rows"] if row["draft"] != "passes")
    found = client.post(f"{path}/entries", json={"rows": [stopped["index"]]}).json()
    assert found["exact"]["entries"] == ["permit tcp from 172.20.40.20 to 172.20.48.5 port https"]
    assert client.post(f"{path}/entries", json={"rows": [77]}).status_code == 422


def test_columns_are_named_and_strange_ones_refused(client: TestClient, path: str) -> None:
    table = f"client,server,proto,dport\n{KIOSK},{LEDGER},tcp,443\n".encode()
    columns = json.dumps({"source": "client", "destination": "server"})
    assert read(client, path, table, data={"columns": columns}).json()["result"]["records"] == 1
    refused = read(client, path, table)
    assert (refused.status_code, "no column holds the source" in refused.json()["detail"]) == (422, True)
    for bad in ("[]", "{", '{"sheep": "x"}'):
        assert read(client, path, table, data={"columns": bad}).status_code == 422


def test_without_traffic_there_is_nothing_to_judge(client: TestClient, path: str) -> None:
    assert client.post(f"{path}/verdicts").status_code == 404
    assert client.post(f"{path}/entries", json={"rows": [0]}).status_code == 404
    unknown = read(client, path, b"\0\1\2")
    assert (unknown.status_code, "this is none of what is known here" in unknown.json()["detail"]) == (
        422,
        True,
    )
    assert read(client, path.replace("/networks/", "/networks/x"), b"x").status_code == 404


def test_traffic_is_still_there_when_the_server_has_begun_anew(
    client: TestClient, path: str, engine: Engine
) -> None:
    read(client, path, pcap(*CONVERSATION), TABLE.encode())
    before = judged(client, path)
    with TestClient(make_app(engine, Access(), None), base_url="http://127.0.0.1:8470") as again:
        assert judged(again, path) == before
        network = path.removesuffix("/traffic")
        version = again.get(network).json()["version"]
        assert again.delete(network, headers={"If-Match": f'"{version}"'}).status_code == 204
        assert again.post(f"{path}/verdicts").status_code == 404
