"""Requirements, advice and findings over the wire."""

from typing import Any

import pytest
from fastapi.testclient import TestClient

from tests.working import worked


@pytest.fixture
def demo(client: TestClient) -> str:
    network: str = client.post("/api/networks/demo").json()["id"]
    return network


def edit(client: TestClient, demo: str, *changes: dict[str, Any]) -> None:
    version = client.get(f"/api/networks/{demo}").json()["version"]
    answer = client.post(
        f"/api/networks/{demo}/draft/edits",
        json={"label": "edit", "changes": changes},
        headers={"If-Match": f'"{version}"'},
    )
    assert answer.status_code == 200, answer.text


def test_requirements_that_are_on_the_screen_can_be_named(client: TestClient, demo: str) -> None:
    path = f"/api/networks/{demo}/policy"
    plain = worked(client, path)
    assert worked(client, path, {"sooner": ["r3", "nobody"]}) == plain
    refused = client.post(path, json={"sooner": ["x" * 101]})
    assert refused.status_code == 422


def test_the_policy_in_three_states(client: TestClient, demo: str) -> None:
    policy = worked(client, f"/api/networks/{demo}/policy")
    answers = {
        each["id"]: tuple(each[state]["answer"] for state in ("baseline", "running", "draft"))
        for each in policy["requirements"]
    }
    assert answers["r1"] == ("violated", "proved", "proved")
    assert answers["r2"] == ("violated", "violated", "violated")
    assert answers["r4"] == ("proved", "proved", "proved")
    entries = "deny tcp from @visitors to @ledger port telnet\npermit any"
    listed = {"name": "no-login", "family": "ipv4", "kind": "extended", "entries": entries}
    placed = {"list": "no-login", "device": "lagoon", "at": "eth2", "direction": "out"}
    edit(
        client,
        demo,
        {"collection": "lists", "key": "no-login", "item": listed},
        {"collection": "placements", "key": "lagoon:eth2:out:no-login", "item": placed},
    )
    policy = worked(client, f"/api/networks/{demo}/policy")
    second = next(each for each in policy["requirements"] if each["id"] == "r2")
    assert (second["running"]["answer"], second["draft"]["answer"]) == ("violated", "proved")
    assert "no-login" in second["draft"]["covered"]


def test_a_counterexample_is_a_test_flow_that_fails(client: TestClient, demo: str) -> None:
    policy = worked(client, f"/api/networks/{demo}/policy")
    flow = next(each for each in policy["requirements"] if each["id"] == "r2")["draft"]["flow"]
    edit(client, demo, {"collection": "tests", "key": "c", "item": {"id": "c", "flow": flow}})
    marks = client.get(f"/api/networks/{demo}/book").json()["tests"]
    assert next(each for each in marks if each["id"] == "c")["draft"]["judgement"]["standing"] == "fails"


def test_what_advice_offers_can_be_taken(client: TestClient, demo: str) -> None:
    body = {"text": "block visitors → ledger telnet"}
    advice = worked(client, f"/api/networks/{demo}/advice", body)
    best = advice["choices"][0]
    assert best["holds"]
    assert best["collateral"]["conversations"] == 0
    edit(client, demo, *best["changes"])
    policy = worked(client, f"/api/networks/{demo}/policy")
    assert next(each for each in policy["requirements"] if each["id"] == "r2")["draft"]["answer"] == "proved"


def test_advice_for_a_test_flow(client: TestClient, demo: str) -> None:
    body = {"text": "ringing-desk → camhub web pass"}
    advice = worked(client, f"/api/networks/{demo}/advice", body)
    assert [choice["list"] for choice in advice["choices"]] == ["hides-in"]


def test_findings_are_mended_and_accepted(client: TestClient, demo: str) -> None:
    listed = {"name": "spare", "family": "ipv4", "kind": "extended", "entries": "permit any"}
    edit(client, demo, {"collection": "lists", "key": "spare", "item": listed})
    found = worked(client, f"/api/networks/{demo}/findings")["findings"]
    spare = next(each for each in found if each["lists"] == ["spare"])
    assert (spare["kind"], spare["accepted"]) == ("placed nowhere", None)
    acceptance = {"finding": spare["key"], "evidence": spare["digest"], "reason": "for next season"}
    edit(client, demo, {"collection": "accepted", "key": spare["key"], "item": acceptance})
    found = worked(client, f"/api/networks/{demo}/findings")["findings"]
    assert next(each for each in found if each["lists"] == ["spare"])["accepted"] == "for next season"


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("block nobody-here → ledger telnet", "there is no device or address set “nobody-here”"),
        ("block kiosk → ledger", "the line ends too early"),
        ("forbid kiosk → ledger telnet", "expected allow, block, only"),
        ("block kiosk → ledger nosuchthing", "no service is known"),
        ("block zone:weir:none → ledger telnet", "none"),
        ("block segment:172.20.99.0/24 → ledger telnet", "no interface has an address"),
        ("block kiosk → ledger tcp/@none", "none"),
        ("block 172.20.16.1/24 → ledger telnet", "is no prefix"),
    ],
)
def test_a_requirement_that_means_nothing_says_why(
    client: TestClient, demo: str, text: str, why: str
) -> None:
    reading = client.post(f"/api/networks/{demo}/requirements/read", json={"text": text}).json()
    assert reading["formatted"] is None
    assert why in " ".join(problem["message"] for problem in reading["problems"])


def test_a_requirement_is_completed(client: TestClient, demo: str) -> None:
    def offered(text: str) -> list[str]:
        body = {"of": "requirement", "text": text}
        return [
            option["text"]
            for option in client.post(f"/api/networks/{demo}/complete", json=body).json()["options"]
        ]

    assert offered("") == ["allow", "block", "only"]
    assert {"visitors", "kiosk", "any"} <= set(offered("block "))
    assert {"→"} <= set(offered("block visitors "))
    assert {"remote", "any", "telnet"} <= set(offered("block visitors → ledger "))


def test_a_forgotten_computation_is_told(client: TestClient) -> None:
    assert client.get("/api/jobs/none").status_code == 404
    assert client.delete("/api/jobs/none").status_code == 204
