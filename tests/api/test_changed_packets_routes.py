"""What is permitted and denied otherwise, over the API: as it is typed, in the draft, between revisions."""

from typing import Any

from fastapi.testclient import TestClient

from tests.working import answered, worked

OPENED = "10 permit tcp from any to 203.0.113.10 port 1-1023\n20 deny any from any to any log\n"
BODY = {"name": "from-beyond", "family": "ipv4", "kind": "extended", "entries": OPENED}


def demo(client: TestClient) -> Any:
    return client.post("/api/networks/demo").json()


def edit(client: TestClient, network: Any) -> Any:
    item = next(each for each in network["draft"]["lists"] if each["name"] == "from-beyond")
    change = {"collection": "lists", "key": "from-beyond", "item": {**item, "entries": OPENED}}
    done = client.post(
        f"/api/networks/{network['id']}/draft/edits",
        json={"label": "open", "changes": [change]},
        headers={"If-Match": f'"{network["version"]}"'},
    )
    assert done.is_success, done.text
    return done.json()


def test_what_is_typed_is_told_beside_what_is_saved(client: TestClient) -> None:
    network = demo(client)
    found = worked(client, f"/api/networks/{network['id']}/lists/packets", BODY)
    assert found["name"] == "from-beyond"
    assert all("203.0.113.10, ports 1–" in text for each in found["changed"] for text in each["packets"])
    assert [each["where"] for each in found["places"]] == ["entering weir by wan0"]
    assert client.get(f"/api/networks/{network['id']}").json()["version"] == network["version"]


def test_a_list_that_is_not_there_and_one_that_does_not_read_are_told(client: TestClient) -> None:
    network = demo(client)
    path = f"/api/networks/{network['id']}/lists/packets"
    assert client.post(path, json={**BODY, "name": "nobody"}).status_code == 404
    answer = client.post(path, json={**BODY, "entries": "permit nonsense"})
    assert (answer.status_code, answer.json()["problems"][0]["line"]) == (422, 1)


def test_the_draft_is_told_beside_what_is_running(client: TestClient) -> None:
    network = demo(client)
    path = f"/api/networks/{network['id']}/changes/packets"
    assert worked(client, path) == {"lists": [], "places": []}
    edit(client, network)
    (changed,) = worked(client, path)["lists"]
    assert changed["name"] == "from-beyond"
    assert changed["changed"][0]["packets"][0].startswith("permits ")


def test_two_revisions_and_a_revision_and_the_draft_are_compared(client: TestClient) -> None:
    network = edit(client, demo(client))
    path = f"/api/networks/{network['id']}/revisions/compare"
    with_draft = worked(client, path, {"before": 1})
    applied = client.post(
        f"/api/networks/{network['id']}/draft/apply",
        json={"note": "open"},
        headers={"If-Match": f'"{network["version"]}"'},
    )
    assert applied.is_success
    assert worked(client, path, {"before": 1, "after": 2}) == with_draft
    titles = [each["title"] for each in with_draft["sections"]]
    assert titles[0] == "Packets"
    assert titles[-1] == "Written"
    back = worked(client, path, {"before": 2, "after": 1})["sections"][0]["lines"]
    assert any(line["text"].startswith("denies ") for line in back)
    assert worked(client, path, {"before": 2})["sentence"] == "0 differences; every packet as before"


def test_a_revision_that_is_not_there_is_told(client: TestClient) -> None:
    network = demo(client)
    path = f"/api/networks/{network['id']}/revisions/compare"
    for body in ({"before": 7}, {"before": 1, "after": 9}):
        answer = answered(client, client.post(path, json=body))
        assert answer.status_code == 404
        assert "there is no revision" in answer.text.lower()
