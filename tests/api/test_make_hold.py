"""All requirements made to hold, over the API and by the command."""

import json
from importlib.resources import files

import pytest
from fastapi.testclient import TestClient

from tests.command_line import run
from tests.working import worked

DEMO = str(files("greyheron.demo").joinpath("saltmarsh.yaml"))


@pytest.mark.long
def test_a_plan_is_offered_and_taken_in_one_edit(client: TestClient) -> None:
    network = client.post("/api/networks/demo").json()
    found = worked(client, f"/api/networks/{network['id']}/policy/make-hold")
    assert found["at_odds"] == []
    plan = found["plans"][0]
    assert plan["aims"] == ["fewest places", "near the sources"]
    done = client.post(
        f"/api/networks/{network['id']}/draft/edits",
        json={"label": "make all hold", "changes": plan["changes"]},
        headers={"If-Match": f'"{network["version"]}"'},
    )
    assert done.is_success, done.text
    policy = worked(client, f"/api/networks/{network['id']}/policy")
    assert {each["draft"]["answer"] for each in policy["requirements"]} == {"proved"}
    again = worked(client, f"/api/networks/{network['id']}/policy/make-hold")
    assert (again["plans"], again["text"][:26]) == ([], "All of them hold already: ")


def test_some_are_chosen(client: TestClient) -> None:
    network = client.post("/api/networks/demo").json()
    path = f"/api/networks/{network['id']}/policy/make-hold"
    assert worked(client, path, {"requirements": []})["plans"] == []
    assert worked(client, path, {"requirements": ["r2"]})["plans"] != []
    assert client.post(path, json={"requirement": ["r2"]}).status_code == 422


def test_the_command_prints_the_plans() -> None:
    result = run(["advise", DEMO, "--all"])
    assert result.exit_code == 0
    assert "near the destinations: 1 new place, new entries: 2" in result.output
    assert "placed entering centre-gw by eth1" in result.output
    found = json.loads(run(["advise", DEMO, "--all", "--json"]).output)
    assert [each["places"] for each in found["plans"]] == [1, 1]
    assert found["plans"][0]["changes"][0]["collection"] in ("lists", "placements")


def test_the_command_wants_one_or_all() -> None:
    for words in (["advise", DEMO], ["advise", DEMO, "block kiosk → ledger any", "--all"]):
        result = run(words)
        assert result.exit_code == 2
        assert "--all" in result.output
