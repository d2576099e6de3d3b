"""The store: versions, undo and redo, apply, revisions, and what survives a crash."""

import os
import signal
import subprocess
import sys
import threading
from contextlib import suppress
from datetime import UTC, datetime
from importlib.resources import files
from pathlib import Path
from random import Random

import pytest
from alembic import command
from alembic.config import Config
from sqlalchemy import Engine, text
from sqlalchemy.orm import Session

from greyheron.demo.generator import Plan, generate
from greyheron.demo.networks import saltmarsh
from greyheron.model.changes import Change
from greyheron.model.problems import DocumentError
from greyheron.store.database import open_database
from greyheron.store.errors import NothingToDo, UnknownNetwork, UnknownRevision, VersionConflict
from greyheron.store.networks import MOST_REMADE, NetworkStore
from greyheron.store.rehearsals import KeptRehearsal, RehearsalStore
from greyheron.store.stored import Stored


def new_list(name: str, entries: str = "permit any\n") -> list[Change]:
    item = {"name": name, "family": "ipv4", "kind": "extended", "entries": entries}
    return [Change(collection="lists", key=name, item=item)]


@pytest.fixture
def demo(store: NetworkStore) -> Stored:
    return store.create(saltmarsh())


def lists(stored: Stored) -> list[str]:
    return [access_list.name for access_list in stored.draft.lists]


def test_a_new_network_is_running_as_drafted(store: NetworkStore, demo: Stored) -> None:
    assert demo.version == 1
    assert demo.running == demo.draft == saltmarsh()
    assert [found.name for found in store.summaries()] == ["Saltmarsh reserve"]


def test_edits_go_to_the_draft_and_raise_the_version(store: NetworkStore, demo: Stored) -> None:
    after = store.edit(demo.id, 1, "new list a", new_list("a"))
    assert (after.version, after.undo, after.redo) == (2, "new list a", None)
    assert "a" in lists(after)
    assert after.running == demo.running
    assert store.get(demo.id) == after


def test_a_write_on_an_old_version_is_refused_and_changes_nothing(store: NetworkStore, demo: Stored) -> None:
    store.edit(demo.id, 1, "new list a", new_list("a"))
    with pytest.raises(VersionConflict) as caught:
        store.edit(demo.id, 1, "new list b", new_list("b"))
    assert (caught.value.based_on, caught.value.current) == (1, 2)
    assert "b" not in lists(store.get(demo.id))


def test_an_edit_that_breaks_the_document_is_refused_whole(store: NetworkStore, demo: Stored) -> None:
    wrong = [*new_list("a"), *new_list("b", "permit any to @nowhere\n")]
    with pytest.raises(DocumentError, match="nowhere"):
        store.edit(demo.id, 1, "both", wrong)
    assert store.get(demo.id) == demo


def test_undo_and_redo_walk_through_the_edits(store: NetworkStore, demo: Stored) -> None:
    store.edit(demo.id, 1, "new list a", new_list("a"))
    store.edit(demo.id, 2, "new list b", new_list("b"))
    back = store.undo(demo.id, 3)
    assert (lists(back)[-1], back.undo, back.redo) == ("a", "new list a", "new list b")
    assert store.undo(demo.id, 4).draft == demo.draft
    assert lists(store.redo(demo.id, 5))[-1] == "a"
    other = store.edit(demo.id, 6, "new list c", new_list("c"))
    assert (lists(other)[-2:], other.redo) == (["a", "c"], None)
    with pytest.raises(NothingToDo):
        store.redo(demo.id, 7)


def test_apply_discard_and_the_way_back(store: NetworkStore, demo: Stored) -> None:
    with pytest.raises(NothingToDo):
        store.apply(demo.id, 1, "nothing")
    store.edit(demo.id, 1, "new list a", new_list("a"))
    applied = store.apply(demo.id, 2, "because")
    assert applied.running == applied.draft
    assert [(each.number, each.note) for each in store.revisions(demo.id)] == [
        (2, "because"),
        (1, "as created"),
    ]
    store.edit(demo.id, 3, "new list b", new_list("b"))
    discarded = store.discard(demo.id, 4)
    assert (discarded.draft, discarded.undo) == (applied.draft, "discard the draft")
    assert lists(store.undo(demo.id, 5))[-1] == "b"
    restored = store.restore(demo.id, 6, 1)
    assert (restored.draft, restored.running) == (demo.draft, applied.running)
    with pytest.raises(UnknownRevision):
        store.restore(demo.id, 7, 99)


def test_removing_a_network_removes_all_of_it(store: NetworkStore, demo: Stored) -> None:
    store.edit(demo.id, 1, "new list a", new_list("a"))
    store.remove(demo.id, 2)
    with pytest.raises(UnknownNetwork):
        store.get(demo.id)
    assert store.summaries() == []


def test_the_last_rehearsal_is_kept(engine: Engine, demo: Stored) -> None:
    rehearsals = RehearsalStore(engine)
    assert rehearsals.last(demo.id) is None
    at = datetime(2026, 11, 26, 6, 30, tzinfo=UTC)
    for version in (1, 2):
        kept = KeptRehearsal(version, f"{version:064}", at, "{}")
        rehearsals.keep(demo.id, kept)
        assert RehearsalStore(engine).last(demo.id) == kept
    with pytest.raises(UnknownNetwork):
        rehearsals.keep("nobody", kept)


def test_of_many_writers_at_once_one_wins_each_version(store: NetworkStore, demo: Stored) -> None:
    outcomes: list[str] = []

    def write(name: str) -> None:
        try:
            store.edit(demo.id, 1, name, new_list(name))
            outcomes.append("written")
        except VersionConflict:
            outcomes.append("refused")

    threads = [threading.Thread(target=write, args=(f"list{number}",)) for number in range(8)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert sorted(outcomes) == ["refused"] * 7 + ["written"]
    assert store.get(demo.id).version == 2


WRITER = """
import sys
from pathlib import Path
from greyheron.store.database import open_database
from greyheron.store.networks import NetworkStore
from tests.unit.test_store import new_list
store = NetworkStore(open_database(Path(sys.argv[1])))
network = store.summaries()[0].id
for version in range(1, 10_000):
    store.edit(network, version, f"edit {version}", new_list(f"list{version}"))
    print(version, flush=True)
"""


def test_every_edit_that_was_acknowledged_survives_a_kill(tmp_path: Path) -> None:
    path = tmp_path / "networks.db"
    NetworkStore(open_database(path)).create(saltmarsh())
    command = [sys.executable, "-c", WRITER, str(path)]
    with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as writer:
        assert writer.stdout is not None
        acknowledged = [int(writer.stdout.readline()) for _ in range(12)]
        os.kill(writer.pid, signal.SIGKILL)
        writer.wait()
        rest = [int(line) for line in writer.stdout if line.strip()]
    store = NetworkStore(open_database(path))
    stored = store.get(store.summaries()[0].id)
    assert stored.version >= (rest or acknowledged)[-1] + 1
    assert lists(stored)[-1] == f"list{stored.version - 1}"
    assert store.undo(stored.id, stored.version).redo == f"edit {stored.version - 1}"


def test_readers_wait_for_no_writer(engine: Engine) -> None:
    store = NetworkStore(engine)
    network = store.create(saltmarsh())
    with Session(engine) as writer, writer.begin():
        writer.execute(text("UPDATE network SET name = 'half done'"))
        assert store.get(network.id).draft.name == network.draft.name
        assert [each.name for each in store.summaries()] == [network.draft.name]


@pytest.mark.parametrize("seed", range(3))
def test_a_draft_is_the_same_however_it_is_read(tmp_path: Path, seed: int) -> None:
    """Edits, undone and made again, applied and thrown away: kept, and read by somebody else."""
    chance = Random(seed)
    path = tmp_path / "networks.db"
    store = NetworkStore(open_database(path))
    network = store.create(saltmarsh())
    for number in range(2 * MOST_REMADE):
        kinds = {"edit": 60, "undo": 15, "redo": 10, "apply": 3, "discard": 2, "restore": 2}
        kind = chance.choices([*kinds], [*kinds.values()])[0]
        with suppress(NothingToDo):
            if kind == "edit":
                made = new_list(f"l{chance.randrange(20)}", f"permit any # {number}\n")
                network = store.edit(network.id, network.version, "an edit", made)
            elif kind == "apply":
                network = store.apply(network.id, network.version, "")
            elif kind == "restore":
                network = store.restore(network.id, network.version, 1)
            else:
                network = getattr(store, kind)(network.id, network.version)
        if number % 8 == 0:
            assert NetworkStore(open_database(path)).get(network.id) == network
    for _ in range(MOST_REMADE):
        network = store.edit(network.id, network.version, "an edit", new_list("last", "deny any\n"))
    assert NetworkStore(open_database(path)).get(network.id) == network


def test_an_edit_writes_what_changed_only(tmp_path: Path) -> None:
    store = NetworkStore(open_database(tmp_path / "networks.db"))
    network = store.create(generate(Plan(routers=30, lists=30, entries=200, seed=1)))
    log = tmp_path / "networks.db-wal"
    before = log.stat().st_size
    network = store.edit(network.id, network.version, "an edit", new_list("one-more"))
    assert log.stat().st_size - before < 100_000
    assert len(network.draft.lists) == 31


def test_a_database_from_before_is_brought_along(tmp_path: Path) -> None:
    path = tmp_path / "networks.db"
    engine = open_database(path)
    store = NetworkStore(engine)
    network = store.create(saltmarsh())
    network = store.edit(network.id, network.version, "an edit", new_list("written"))
    network = store.apply(network.id, network.version, "")
    engine.dispose()
    config = Config()
    config.set_main_option("script_location", str(files("greyheron.store").joinpath("migrations")))
    with open_database(path).begin() as connection:
        config.attributes["connection"] = connection
        command.downgrade(config, "0006")
    assert NetworkStore(open_database(path)).get(network.id) == network
