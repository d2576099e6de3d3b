"""Lists made shorter over the API and by the command."""

from pathlib import Path

import pytest
from fastapi.testclient import TestClient

from greyheron.cli.main import main
from greyheron.demo.networks import saltmarsh
from greyheron.formats.workspace import read_workspace, write_workspace
from tests.working import worked

SPLIT = "permit any from 172.20.16.0/24 to any\npermit any from 172.20.17.0/24 to any # tills\n"


def test_a_list_is_tidied_as_it_is_typed(client: TestClient) -> None:
    network = client.post("/api/networks/demo").json()
    body = {"name": "visitors-in", "family": "ipv4", "kind": "extended", "entries": SPLIT}
    found = worked(client, f"/api/networks/{network['id']}/lists/tidy", body)
    assert (found["before"], found["after"]) == (2, 1)
    assert found["entries"] == "10 permit any from 172.20.16.0/23 to any # tills\n"
    assert [(each["of"], each["into"]) for each in found["steps"]] == [([10, 20], 10)]
    assert client.get(f"/api/networks/{network['id']}").json()["version"] == network["version"]


def test_what_does_not_read_is_told_and_not_tidied(client: TestClient) -> None:
    network = client.post("/api/networks/demo").json()
    body = {"name": "visitors-in", "family": "ipv4", "kind": "extended", "entries": "permit nonsense"}
    answer = client.post(f"/api/networks/{network['id']}/lists/tidy", json=body)
    assert answer.status_code == 422
    assert answer.json()["problems"][0]["line"] == 1


def test_all_lists_of_the_draft_are_tidied_at_once(client: TestClient) -> None:
    network = client.post("/api/networks/demo", params={"which": "storm"}).json()
    found = worked(client, f"/api/networks/{network['id']}/tidy")["lists"]
    assert [(each["name"], each["before"], each["after"]) for each in found] == [("from-beyond", 2, 1)]


def with_split_list() -> str:
    floors = "- name: floors\n  family: ipv4\n  kind: extended\n  entries: |\n"
    lines = "".join(
        f"    {number} {line}\n" for number, line in zip((10, 20), SPLIT.splitlines(), strict=True)
    )
    return write_workspace(saltmarsh()).replace("\nlists:\n", f"\nlists:\n{floors}{lines}", 1)


@pytest.mark.parametrize("how", ["--check", "--write", None])
def test_the_command_tells_each_step(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], how: str | None
) -> None:
    file = tmp_path / "network.yaml"
    file.write_text(f"# ours\n{with_split_list()}", encoding="utf-8")
    before = file.read_text("utf-8")
    status = main(["tidy", str(file), *([how] if how else [])])
    said = capsys.readouterr()
    assert status == (1 if how == "--check" else 0)
    assert "floors: 2 entries, now 1\n    10, 20 → 10: can be one: 172.20.16.0/23" in said.err
    after = said.out if how is None else file.read_text("utf-8")
    lists = {each.name: len(each.body.entries) for each in read_workspace(after).lists}
    assert lists["floors"] == (2 if how == "--check" else 1)
    assert after.startswith("# ours\n")
    assert (file.read_text("utf-8") == before) == (how != "--write")
    assert main(["tidy", str(file), "--check"]) == (0 if how == "--write" else 1)


def test_a_list_that_is_not_there_is_named(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    file = tmp_path / "network.yaml"
    file.write_text(write_workspace(saltmarsh()), encoding="utf-8")
    assert main(["tidy", str(file), "--list", "none-such"]) == 2
    assert "There is no list “none-such”" in capsys.readouterr().err
