"""The workers of a scheduler: they answer as this process does, and what becomes of it when they end."""

import os
import shutil
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from random import Random
from threading import Timer
from time import sleep
from typing import Any

import cloudpickle
import pytest
from distributed import Client
from fastapi.testclient import TestClient
from sqlalchemy import Engine

import dask
from greyheron import __version__
from greyheron.analysis.reach.question import ReachError, ReachQuestion
from greyheron.analysis.traffic.folding import fold
from greyheron.compute import cluster as clusters
from greyheron.compute.cluster import MOST_LINKS, Cluster
from greyheron.compute.derived import DerivedState
from greyheron.compute.documents import RunningAndDraft
from greyheron.compute.pooled import RemoteState
from greyheron.compute.questions.book import BookQuestion
from greyheron.compute.questions.findings import FindingsQuestion
from greyheron.compute.questions.policy import PolicyQuestion, ProofsQuestion
from greyheron.compute.questions.reach import MatrixQuestion, ReachChangeQuestion
from greyheron.compute.questions.traffic import TrafficQuestion
from greyheron.compute.state import SMALL
from greyheron.compute.tasks import Order, WorkersGone
from greyheron.core.progress import Cancelled, unwatched
from greyheron.demo.generator import Plan, generate
from greyheron.demo.networks import saltmarsh
from greyheron.formats.bundle import bundle_of
from greyheron.formats.traffic import read_traffic
from greyheron.formats.workspace import write_workspace
from greyheron.model.entry import ListBody
from greyheron.model.values import Family
from greyheron.server.access import Access
from greyheron.server.app import make_app
from tests.command_line import run
from tests.dask import Machines, machines
from tests.edits import edited_at_random
from tests.working import worked

QUESTION = ReachQuestion(("services", "ping"), Family.IPV4)
LARGE = generate(Plan(routers=41, lists=20, entries=20, seed=3))


pytestmark = pytest.mark.long


@pytest.fixture(autouse=True)
def patient(monkeypatch: pytest.MonkeyPatch) -> None:
    """However busy the machine is on which they start."""
    monkeypatch.setattr(clusters, "CONNECTING", 120.0)
    monkeypatch.setattr(clusters, "NOBODY", 120.0)


@pytest.fixture(scope="module")
def two() -> Iterator[Machines]:
    with machines(2) as found:
        yield found


@pytest.fixture(scope="module")
def cluster(two: Machines) -> Iterator[Cluster]:
    found = Cluster(two.address)
    while len(found) < 4:  # both workers have come
        sleep(0.05)
    yield found
    found.close()


def answers(state: DerivedState, stored: RunningAndDraft) -> list[Any]:
    """Everything that workers do, as what can be compared."""
    reached = state.ask(MatrixQuestion(asked=QUESTION), stored)
    return [
        state.ask(FindingsQuestion(), stored),
        state.ask(PolicyQuestion(), stored),
        state.ask(ProofsQuestion(), stored),
        state.ask(BookQuestion(), stored),
        (reached.running.tolist(), reached.draft.tolist()),
    ]


def test_workers_of_a_scheduler_share_the_work_and_answer_as_this_process_does(cluster: Cluster) -> None:
    assert len(LARGE.devices) > SMALL
    stored, here, there = RunningAndDraft.same(LARGE), DerivedState(), RemoteState("large", cluster)
    assert answers(there, stored) == answers(here, stored)
    empty = [each.model_copy(update={"body": ListBody()}) for each in LARGE.lists]
    after = LARGE.model_copy(update={"lists": tuple(empty)})
    change = there.ask(ReachChangeQuestion(), RunningAndDraft(stored.draft, after))
    assert change is not None
    assert change.changed > 0
    assert change == here.ask(ReachChangeQuestion(), RunningAndDraft(stored.draft, after))


def test_a_network_that_is_gone_may_come_back(cluster: Cluster) -> None:
    there, stored = RemoteState("back", cluster), RunningAndDraft.same(saltmarsh())
    before = there.ask(ProofsQuestion(), stored)
    there.forget()
    assert there.ask(ProofsQuestion(), stored) == before


def test_workers_let_go_of_a_network_that_is_gone(two: Machines, cluster: Cluster) -> None:
    there, stored = RemoteState("let go", cluster), RunningAndDraft.same(saltmarsh())
    there.ask(ProofsQuestion(), stored)
    with Client(two.address, set_as_default=False) as asking:
        assert True in known_by(asking, "let go")
        there.forget()
        while known_by(asking, "let go") != {False}:
            sleep(0.05)


def known_by(asking: Client, network: str) -> set[bool]:
    """Whether workers know something of a network."""

    def known(network: str) -> bool:
        from greyheron.compute import cluster_worker as errand

        return network in errand._states()._of

    return set(asking.run(known, network).values())


def test_an_edited_network_is_told_by_what_differs(cluster: Cluster) -> None:
    """Through more edits than a chain has links."""
    chance, network = Random(4), saltmarsh()
    here, there = DerivedState(), RemoteState("edited", cluster)
    for _ in range(MOST_LINKS + 2):
        network = edited_at_random(network, chance)
        stored = RunningAndDraft(saltmarsh(), network)
        assert there.ask(ProofsQuestion(), stored) == here.ask(ProofsQuestion(), stored)


def test_what_is_found_there_is_told_as_it_comes(cluster: Cluster) -> None:
    found: list[Any] = []
    every = RemoteState("told", cluster).ask(
        FindingsQuestion(), RunningAndDraft.same(LARGE), unwatched, found.extend
    )
    assert found
    assert {each.key for each in found} <= {each.key for each in every}


def test_traffic_goes_to_who_judges_it_by_who_began_it(cluster: Cluster) -> None:
    ends = [str(each.ip) for device in LARGE.devices if device.traits.end_system for each in first(device)]
    rows = [f"{one},{other},tcp,443" for one in ends[:20] for other in ends[20:30]]
    table = "\n".join(["source,destination,protocol,destination port", *rows]).encode()
    seen = fold(read_traffic(bundle_of("seen.csv", table), {})[0])
    assert len(seen) == 200
    stored = RunningAndDraft.same(LARGE)
    judged = [
        state.ask(TrafficQuestion(seen=seen), stored)
        for state in (DerivedState(), RemoteState("seen", cluster))
    ]
    for here, there in zip(*judged, strict=True):
        assert (here.verdict == there.verdict).all()
        assert (here.entry == there.entry).all()
        decided = [
            [None if at < 0 else (each.points[at], each.names[at]) for at in each.point.tolist()]
            for each in (here, there)
        ]
        assert decided[0] == decided[1]


def first(device: Any) -> Any:
    return [each for interface in device.interfaces for each in interface.addresses][:1]


def test_a_worker_that_ends_in_the_middle_costs_nothing_but_time() -> None:
    stored = RunningAndDraft.same(LARGE)
    with machines(2) as found:
        cluster = Cluster(found.address)
        ending = Timer(0.5, found.processes[1].kill)
        there = RemoteState("ends", cluster)
        there.ask(ProofsQuestion(), RunningAndDraft.same(saltmarsh()))
        ending.start()
        assert answers(there, stored) == answers(DerivedState(), stored)
        ending.join()
        found.worker()
        found.processes[2].kill()  # now all that the documents were with is gone
        assert there.ask(FindingsQuestion(), stored) == DerivedState().ask(FindingsQuestion(), stored)
        cluster.close()


def test_a_worker_of_another_version_is_given_nothing(
    tmp_path: Path, caplog: pytest.LogCaptureFixture
) -> None:
    other, none = tmp_path / "other" / "greyheron", tmp_path / "none" / "greyheron"
    for folder, content in ((other, '__version__ = "0.0.1"'), (none, 'raise ImportError("nothing here")')):
        folder.mkdir(parents=True)
        (folder / "__init__.py").write_text(content)
    stored = RunningAndDraft.same(saltmarsh())
    with machines(0) as found:
        for folder in (other, none):
            found.worker({**os.environ, "PYTHONPATH": str(folder.parent)})
        cluster = Cluster(found.address)
        while len(cluster) < 4:
            sleep(0.05)
        there = RemoteState("other", cluster)
        with pytest.raises(WorkersGone, match=f"has Grey Heron {__version__}: install it"):
            there.ask(ProofsQuestion(), stored)
        found.worker()
        while len(cluster) < 2:
            sleep(0.05)
        assert there.ask(ProofsQuestion(), stored) == DerivedState().ask(ProofsQuestion(), stored)
        cluster.close()
    said = [record.getMessage() for record in caplog.records]
    assert any(f"has Grey Heron 0.0.1, not {__version__}" in each for each in said)


def test_a_scheduler_that_is_gone_is_told_of(monkeypatch: pytest.MonkeyPatch) -> None:
    stored = RunningAndDraft.same(LARGE)
    with machines(1) as found:
        monkeypatch.setattr(clusters, "CONNECTING", 10.0)  # so long it is looked for once it is gone, too
        cluster = Cluster(found.address)
        monkeypatch.setattr(clusters, "CONNECTING", 1.0)
        there = RemoteState("gone", cluster)
        ending = Timer(1.0, found.processes[0].kill)
        ending.start()
        with pytest.raises(WorkersGone, match="scheduler"):
            answers(there, stored)
        ending.join()
        with pytest.raises(WorkersGone, match="No scheduler answers at"):
            there.ask(FindingsQuestion(), stored)
        monkeypatch.setattr(clusters, "CONNECTING", 60.0)
        found.processes[0].wait()
        found.scheduler()
        found.worker()
        small = RunningAndDraft.same(saltmarsh())
        assert there.ask(FindingsQuestion(), small) == DerivedState().ask(FindingsQuestion(), small)
        cluster.close()


def test_a_scheduler_without_workers_is_told_of(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(clusters, "NOBODY", 0.5)
    with machines(0) as found:
        cluster = Cluster(found.address)
        with pytest.raises(WorkersGone, match=f"start some with `dask worker {found.address}`"):
            RemoteState("nobody", cluster).ask(FindingsQuestion(), RunningAndDraft.same(saltmarsh()))
        cluster.close()


def test_work_that_nobody_waits_for_ends(cluster: Cluster) -> None:
    there, seen = RemoteState("given-up", cluster), list[float]()

    def give_up(done: float) -> None:
        seen.append(done)
        if len(seen) > 3:
            raise Cancelled

    with pytest.raises(Cancelled):
        there.ask(FindingsQuestion(), RunningAndDraft.same(LARGE), give_up)
    stored = RunningAndDraft.same(saltmarsh())
    assert there.ask(FindingsQuestion(), stored) == DerivedState().ask(FindingsQuestion(), stored)


def test_what_is_raised_there_is_raised_here(cluster: Cluster) -> None:
    nowhere = MatrixQuestion(asked=ReachQuestion(("there-is-none",), Family.IPV4))
    with pytest.raises(ReachError, match="there-is-none"):
        cluster.results("wrong", [Order(0, nowhere, RunningAndDraft.same(saltmarsh()))])


def poisoned(file: str) -> object:
    """An answer that makes a file of whoever reads it as a program; all of it goes to the worker."""

    class Poisoned:
        def __reduce__(self) -> tuple[Any, tuple[str, str]]:
            return open, (file, "w")

    return Poisoned()


def test_an_answer_that_is_a_program_is_not_run(cluster: Cluster, tmp_path: Path) -> None:
    file = tmp_path / "run"
    cloudpickle.register_pickle_by_value(sys.modules[__name__])
    try:
        future = cluster._client.submit(poisoned, str(file), pure=False)
        with pytest.raises(WorkersGone, match="look at what runs there"):
            cluster._outcome(FindingsQuestion(), future)
    finally:
        cloudpickle.unregister_pickle_by_value(sys.modules[__name__])
    assert not file.exists()


@pytest.mark.parametrize(
    "answer",
    [
        None,
        7,
        "done",
        ("done",),
        ("done", None),
        ("done", b"junk"),
        ("done", [1]),
        ("error", b""),
        ("else", b""),
    ],
)
def test_an_answer_that_is_not_ours_is_told_of(cluster: Cluster, answer: Any) -> None:
    future = cluster._client.submit(lambda: answer, pure=False)
    with pytest.raises(WorkersGone, match="look at what runs there"):
        cluster._outcome(FindingsQuestion(), future)


def certificates(folder: Path) -> tuple[Path, Path, Path]:
    """An authority, and a certificate of its own with the key."""
    ca, key, mine = (folder / name for name in ("ca.pem", "key.pem", "mine.pem"))
    ca_key, asked = folder / "ca-key.pem", folder / "asked.pem"
    new = ["-newkey", "rsa:2048", "-nodes", "-subj"]
    for words in (
        ["req", "-x509", *new, "/CN=saltmarsh authority", "-keyout", ca_key, "-out", ca, "-days", "2"],
        ["req", *new, "/CN=saltmarsh scheduler", "-keyout", key, "-out", asked],
        [
            "x509",
            "-req",
            "-in",
            asked,
            "-CA",
            ca,
            "-CAkey",
            ca_key,
            "-CAcreateserial",
            "-out",
            mine,
            "-days",
            "1",
        ],
    ):
        subprocess.run(["openssl", *map(str, words)], check=True, capture_output=True)
    return ca, mine, key


@pytest.mark.skipif(shutil.which("openssl") is None, reason="makes certificates with openssl")
def test_a_scheduler_is_spoken_to_by_tls(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """As docs/running.md says it: the engine's own settings, on each machine."""
    ca, mine, key = certificates(tmp_path)
    its = {"CA_FILE": ca} | {
        f"{who}__{what}": file
        for who in ("SCHEDULER", "WORKER", "CLIENT")
        for what, file in (("CERT", mine), ("KEY", key))
    }
    settings = {f"DASK_DISTRIBUTED__COMM__TLS__{name}": str(file) for name, file in its.items()}
    with machines(1, protocol="tls", environment=os.environ | settings) as found:
        for name, value in settings.items():
            monkeypatch.setenv(name, value)
        dask.config.refresh()
        pool = Cluster(found.address)
        try:
            there = RemoteState("tls", pool).ask(FindingsQuestion(), RunningAndDraft.same(saltmarsh()))
            assert there == DerivedState().ask(FindingsQuestion(), RunningAndDraft.same(saltmarsh()))
        finally:
            pool.close()
        for name in settings:
            monkeypatch.delenv(name)
        dask.config.refresh()
        with pytest.raises(WorkersGone, match="no certificates here"):
            Cluster(found.address)


def test_a_server_gives_long_work_to_a_scheduler(engine: Engine, client: TestClient, two: Machines) -> None:
    name = client.post("/api/networks/demo").json()["id"]
    app = make_app(engine, Access(), None, pool=Cluster(two.address))
    with TestClient(app, base_url="http://127.0.0.1:8470") as working:
        for what, body in (("findings", None), ("advice", {"text": "block visitors → ledger ssh"})):
            path = f"/api/networks/{name}/{what}"
            assert worked(working, path, body) == worked(client, path, body)


@pytest.mark.parametrize(
    "words", [["findings"], ["check"], ["reach"], ["advise", "block h1 → h2 ssh"]], ids=" ".join
)
def test_a_command_with_a_scheduler_prints_the_same(words: list[str], two: Machines, tmp_path: Path) -> None:
    file = tmp_path / "large.yaml"
    file.write_text(write_workspace(LARGE))
    command = [words[0], str(file), *words[1:]]
    assert run([*command, "--scheduler", two.address]) == run(command)


def test_a_command_without_the_engine_says_what_to_install(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setitem(sys.modules, "distributed", None)
    monkeypatch.delitem(sys.modules, "greyheron.compute.cluster", raising=False)
    monkeypatch.delitem(sys.modules, "greyheron.compute.cluster_worker", raising=False)
    file = Path(__file__).parents[2] / "src/greyheron/demo/saltmarsh.yaml"
    ended = run(["findings", str(file), "--scheduler", "tcp://127.0.0.1:1"])
    assert ended.exit_code == 2
    assert "install grey-heron[cluster]" in ended.output


@pytest.mark.parametrize("address", ["tcp://127.0.0.1:1", "nowhere", "http://127.0.0.1"])
def test_a_scheduler_that_does_not_answer_is_a_sentence(
    address: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(clusters, "CONNECTING", 0.5)
    file = Path(__file__).parents[2] / "src/greyheron/demo/saltmarsh.yaml"
    ended = run(["prove", str(file), "--scheduler", address])
    assert (ended.exit_code, "No scheduler answers at" in ended.output) == (2, True), ended.output


def test_a_server_has_one_crew(tmp_path: Path) -> None:
    both = ["--workers", "1", "--scheduler", "tcp://127.0.0.1:1"]
    ended = run(["serve", "--port", "0", "--data", str(tmp_path), "--no-open", *both])
    assert ended.exit_code == 2
    assert "give one of them" in ended.output


def test_a_document_has_one_digest_in_every_process() -> None:
    """What is put on a cluster by one command is known to the next one."""
    program = (
        "from greyheron.demo.networks import saltmarsh\n"
        "from greyheron.compute.cluster import OnCluster\n"
        "print(OnCluster().chain(saltmarsh())[0])"
    )
    printed = {
        subprocess.run(
            [sys.executable, "-c", program],
            env={**os.environ, "PYTHONHASHSEED": seed},
            capture_output=True,
            check=True,
        ).stdout
        for seed in ("1", "2")
    }
    assert len(printed) == 1
