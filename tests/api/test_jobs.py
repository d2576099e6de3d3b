"""Long computations: fair turns, an end when nobody waits, and clear words when there is none."""

import threading
import time
from collections.abc import Iterator

import pytest
from fastapi.testclient import TestClient

from greyheron.core.progress import Cancelled, Progress
from greyheron.demo.networks import saltmarsh
from greyheron.formats.workspace import write_workspace
from greyheron.server import jobs as module
from greyheron.server.jobs import Job, Jobs, Telling
from greyheron.server.problems import Refusal
from tests.working import answered, worked


@pytest.fixture
def jobs() -> Iterator[Jobs]:
    made = Jobs()
    yield made
    made.close()


def until(ready: threading.Event, ended: list[str], name: str):  # type: ignore[no-untyped-def]
    """Work that tells how far it is until it may end."""

    def work(progress: Progress) -> str:
        try:
            while not ready.wait(0.005):
                progress(0.5)
        except Cancelled:
            ended.append(name)
            raise
        return name

    return work


def finish(jobs: Jobs, job_id: str) -> object:
    while (told := jobs.told(job_id)).result is None:
        time.sleep(0.005)
    return told.result


def test_one_network_does_not_hold_the_others(jobs: Jobs) -> None:
    never, ended = threading.Event(), list[str]()
    for number in range(12):
        jobs.start("busy", until(never, ended, f"busy {number}"))
    assert jobs.start("other", lambda _progress: "done").result == "done"
    assert jobs.counts()[1] == module.AT_ONCE_OF_ONE


def test_a_cancelled_computation_ends_within_a_second(jobs: Jobs) -> None:
    never, ended = threading.Event(), list[str]()
    told = jobs.start("a", until(never, ended, "first"))
    jobs.cancel(told.id)
    begun = time.monotonic()
    while not ended:
        time.sleep(0.005)
    assert time.monotonic() - begun < 1
    with pytest.raises(Refusal, match="Ask for it again"):
        jobs.told(told.id)


def test_a_window_that_sleeps_finds_its_result(jobs: Jobs, monkeypatch: pytest.MonkeyPatch) -> None:
    ready, ended = threading.Event(), list[str]()
    told = jobs.start("a", until(ready, ended, "kept"))
    monkeypatch.setattr(module, "monotonic", lambda: time.monotonic() + 120)
    time.sleep(0.05)
    ready.set()
    assert finish(jobs, told.id) == "kept"
    assert ended == []


def test_what_nobody_asks_about_for_long_ends_with_a_word(
    jobs: Jobs, monkeypatch: pytest.MonkeyPatch
) -> None:
    never, ended = threading.Event(), list[str]()
    told = jobs.start("a", until(never, ended, "forgotten"))
    monkeypatch.setattr(module, "FORGOTTEN", 0.0)
    while not ended:
        time.sleep(0.005)
    while jobs.counts()[1]:
        time.sleep(0.005)
    with pytest.raises(Refusal, match="Ask for it again"):
        jobs.told(told.id)


def test_what_takes_too_long_is_ended_and_said(jobs: Jobs) -> None:
    with pytest.raises(Refusal, match="ask about less"):
        jobs.start("a", until(threading.Event(), [], "long"), longest=0.0)


def test_work_that_writes_is_finished_when_the_server_ends() -> None:
    made, kept = Jobs(), list[str]()

    def slow(progress: Progress) -> str:
        for step in range(20):
            time.sleep(0.02)
            progress(step / 20)
        kept.append("written")
        return "written"

    made.start("a", slow, writes=True)
    made.close()
    assert kept == ["written"]


def test_an_unknown_computation_is_a_problem_document(client: TestClient) -> None:
    answer = client.get("/api/jobs/none")
    assert answer.status_code == 404
    assert answer.headers["content-type"] == "application/problem+json"
    assert "Ask for it again" in answer.json()["detail"]


def test_an_import_tells_how_far_it_is_and_can_be_cancelled(client: TestClient) -> None:
    network = saltmarsh()
    lists = tuple(network.lists[0].model_copy(update={"name": f"list{number}"}) for number in range(400))
    text = write_workspace(network.model_copy(update={"lists": (*network.lists, *lists)})).encode()
    begun = client.post("/api/networks/import", content=text)
    assert begun.status_code == 202
    assert client.delete(f"/api/jobs/{begun.json()['id']}").status_code == 204
    assert answered(client, client.post("/api/networks/import", content=text)).is_success


def test_a_network_is_read_beside_the_requests_and_then_opened(client: TestClient) -> None:
    made = client.post("/api/networks/demo").json()["id"]
    assert worked(client, f"/api/networks/{made}/open") == {"id": made, "version": 1}
    book = worked(client, f"/api/networks/{made}/book")
    assert book == client.get(f"/api/networks/{made}/book").json()


def test_work_is_never_less_done_than_it_was_at_the_same_stage() -> None:
    job = Job("one", "network", lambda _: None)
    told = []
    for done, stage in ((0.3, "reading"), (0.2, "reading"), (0.1, "checking"), (0.0, "checking")):
        job(done, stage)
        told.append((job.told().done, job.told().stage))
    assert told == [(0.3, "reading"), (0.3, "reading"), (0.1, "checking"), (0.1, "checking")]


def test_what_is_found_is_told_before_the_work_is_done(jobs: Jobs) -> None:
    heard, more, ready = threading.Event(), threading.Event(), threading.Event()

    def work(telling: Telling) -> list[int]:
        telling.found([3, 1])
        heard.set()
        more.wait(10)
        telling.found([2])
        heard.set()
        ready.wait(10)
        return [1, 2, 3]

    begun = jobs.start("network", work, early=sorted)
    assert heard.wait(10)
    told = jobs.told(begun.id)
    assert (told.early, told.known, told.result) == ([1, 3], 2, None)
    assert jobs.told(begun.id, told.known).early is None, "it is not told again"
    heard.clear()
    more.set()
    assert heard.wait(10)
    told = jobs.told(begun.id, told.known)
    assert (told.early, told.known) == ([1, 2, 3], 3)
    ready.set()
    assert finish(jobs, begun.id) == [1, 2, 3]
    assert jobs.told(begun.id).early is None
