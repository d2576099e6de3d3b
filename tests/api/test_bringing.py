"""Bringing in over the API: looked at first, then made or merged."""

from pathlib import Path
from typing import Any

from fastapi.testclient import TestClient

from greyheron.formats.workspace import write_workspace
from tests.lab import Lab
from tests.unit.test_machines import ACCEPT, GATE, dport, gate, listing, match, port
from tests.working import answered

COLLECTED = Path(__file__).parents[1] / "machines"


def bring(client: TestClient, **files: bytes) -> dict[str, Any]:
    sent = [("files", (name, content)) for name, content in files.items()]
    begun = client.post("/api/bring", files=sent)
    assert begun.status_code == 202, begun.text
    job = begun.json()["id"]
    found: dict[str, Any] = answered(client, begun).json()["result"]
    return found | {"job": job}


def lab(lab: Lab) -> bytes:
    return write_workspace(lab.network()).encode()


def test_machines_are_looked_at_and_then_made(client: TestClient) -> None:
    found = bring(client, **{each.name: each.read_bytes() for each in COLLECTED.iterdir()})
    assert (found["format"], found["lists"], found["left_out_count"]) == ("machines as they are", 9, 0)
    assert "brought" not in found
    gate = next(each for each in found["devices"] if each["name"] == "gate")
    assert "gate-lan-in at lan in" in gate["lists"]
    assert ["gate", "shed"] in found["links"]
    assert client.get("/api/networks").json() == []
    made = client.post(f"/api/bring/{found['job']}/network", json={"name": "The reserve"})
    assert made.status_code == 201
    assert (made.json()["name"], made.json()["devices"]) == ("The reserve", 6)


def test_counters_come_along(client: TestClient) -> None:
    lan = match({"meta": {"key": "iifname"}}, "lan")
    counted = [[lan, dport(80), {"counter": {"packets": 7, "bytes": 1}}, ACCEPT]]
    found = bring(client, **{"gate.json": gate(listing({"forward": counted}, {"forward": "drop"}))})
    made = client.post(f"/api/bring/{found['job']}/network", json={"name": "x"}).json()
    (counter,) = client.get(f"/api/networks/{made['id']}/counters").json()
    assert counter["packets"] == 7
    assert port("lan", GATE["lan"])["ifname"] == "lan"


def test_items_are_merged_as_they_are_chosen(client: TestClient) -> None:
    before = bring(client, **{"lab.yaml": lab(Lab())})
    network = client.post(f"/api/bring/{before['job']}/network", json={"name": "Lab"}).json()
    changed = Lab().place("r2 wan0 in", "10 permit any from any to any")
    changed.device("mate")["services"] = []
    after = bring(client, **{"lab.yaml": lab(changed)})
    path = f"/api/networks/{network['id']}/bring/{after['job']}"
    offer = client.get(path).json()
    assert {(each["collection"], each["state"]) for each in offer["items"]} == {
        ("devices", "differs"), ("lists", "new"), ("placements", "new")
    }  # fmt: skip
    device = next(each for each in offer["items"] if each["collection"] == "devices")
    assert "services" in device["before"]
    assert "services" not in device["after"]
    chosen = [
        {"collection": each["collection"], "key": each["key"]}
        for each in offer["items"]
        if each["state"] == "new"
    ]
    match = {"If-Match": f'"{network["version"]}"'}
    merged = client.post(path, json={"items": chosen}, headers=match)
    assert merged.status_code == 200, merged.text
    assert merged.json()["undo"] == "bring in 2 of Lab"
    assert [each["collection"] for each in client.get(path).json()["items"]] == ["devices"]
    unknown = [{"collection": "lists", "key": "nobody"}]
    match = {"If-Match": f'"{merged.json()["version"]}"'}
    assert "nothing called" in client.post(path, json={"items": unknown}, headers=match).json()["detail"]


def test_what_is_not_known_or_forgotten_is_said(client: TestClient) -> None:
    refused = answered(client, client.post("/api/bring", files=[("files", ("x.bin", b"\0\1"))]))
    assert refused.status_code == 422
    assert "this is neither machines as they are nor YANG" in refused.json()["detail"]
    assert client.post("/api/bring").status_code == 422
    gone = client.post("/api/bring/nothing/network", json={"name": "x"})
    assert (gone.status_code, "Ask for it again" in gone.json()["detail"]) == (404, True)


def test_another_job_is_nothing_that_was_brought(client: TestClient) -> None:
    network = client.post("/api/networks/demo").json()["id"]
    begun = client.post(f"/api/networks/{network}/book")
    answered(client, begun)
    gone = client.post(f"/api/bring/{begun.json()['id']}/network", json={"name": "x"})
    assert (gone.status_code, "bring it in again" in gone.json()["detail"]) == (404, True)


def test_a_network_is_taken_out_and_comes_back_the_same(client: TestClient) -> None:
    network = client.post("/api/networks/demo").json()
    path = f"/api/networks/{network['id']}/out"
    ways = {each["format"]: each for each in client.get(path).json()}
    assert set(ways) == {"workspace", "yang", "yang-xml", "lists-csv"}
    assert (ways["workspace"]["left_out_count"], ways["workspace"]["loses"]) == (0, [])
    assert ways["yang"]["left_out_count"] > 0
    written = {"workspace": "application/yaml", "yang": "application/zip", "yang-xml": "application/zip"}
    for name, media_type in written.items():
        taken = client.get(f"{path}/{name}")
        assert taken.headers["content-type"] == media_type
        file = "x.yaml" if name == "workspace" else "x.zip"
        found = bring(client, **{file: taken.content})
        assert (found["left_out_count"], len(found["devices"])) == (0, 23)
        assert client.get(f"/api/networks/{network['id']}/bring/{found['job']}").json()["items"] == []
    assert client.get(f"{path}/sheep").status_code == 404
