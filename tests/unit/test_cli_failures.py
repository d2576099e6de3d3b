"""What can go wrong on the command line: each a sentence and status 2, never a traceback."""

import errno
import os
import signal
import socket
import sqlite3
import subprocess
import sys
import time
from collections.abc import Callable, Sequence
from contextlib import closing
from functools import partial
from importlib.resources import files
from pathlib import Path

import pytest

from greyheron import __version__
from greyheron.cli.main import COMMANDS
from greyheron.cli.reading import CannotGoOn, write_file
from greyheron.cli.writing import write_whole
from greyheron.formats.workspace import read_workspace
from greyheron.store.database import open_database
from greyheron.store.opening import reason
from tests.command_line import run

DEMO = str(files("greyheron.demo").joinpath("saltmarsh.yaml"))
READING: dict[str, list[str]] = {
    "trace": ["--from", "kiosk", "--to", "ledger", "--service", "ping"],
    "check": [],
    "prove": [],
    "advise": ["block kiosk → ledger telnet"],
    "findings": [],
    "reach": [],
    "rehearse": [],
    "format": [],
    "tidy": ["--check"],
    "compare": [DEMO],
    "traffic": [DEMO],
}
BAD_FILES: dict[str, tuple[bytes, str]] = {
    "a key that is a list": (b"? [a]\n: 1\n", "expected the name of a field"),
    "a key that is a number": (b"1: 2\n", "expected the name of a field, found 1"),
    "a tag": (b"name: !!bool x\n", "are not read"),
    "no UTF-8": (b"name: \xff\n", "no UTF-8"),
    "nothing": (b"", "expected fields"),
    "half a document": (b"format: grey-heron/1\nname: x\ndevices: [{", "not YAML"),
}


def sentence_of(ended_with: int, output: str) -> str:
    assert ended_with == 2, output
    assert "Traceback" not in output
    assert len(output) < 1000
    return output


def test_every_command_that_reads_is_tried_here() -> None:
    assert set(READING) == COMMANDS.keys() - {"serve", "backup", "restore", "generate", "collect", "convert"}


@pytest.mark.parametrize("command", READING)
@pytest.mark.parametrize("bad", BAD_FILES)
def test_a_bad_file_is_a_sentence_for_every_command(command: str, bad: str, tmp_path: Path) -> None:
    content, words = BAD_FILES[bad]
    file = tmp_path / "bad.yaml"
    file.write_bytes(content)
    ended = run([command, str(file), *READING[command]])
    assert words in sentence_of(ended.exit_code, ended.output)
    assert str(file) in ended.output
    from_input = run([command, "-", *READING[command]], given=content)
    assert "standard input" in sentence_of(from_input.exit_code, from_input.output)


@pytest.mark.parametrize("command", READING)
def test_a_path_that_is_no_file_is_a_sentence(command: str, tmp_path: Path) -> None:
    for path, words in (
        (tmp_path, "directory"),
        (tmp_path / "none", "No such file"),
        (Path("\udcff"), "\\udcff"),
    ):
        ended = run([command, str(path), *READING[command]])
        assert words in sentence_of(ended.exit_code, ended.output)


def test_standard_input_is_read() -> None:
    assert run(["check", "-"], given=Path(DEMO).read_bytes()).output == run(["check", DEMO]).output


@pytest.mark.parametrize("encoding", ["ascii", "latin-1", "cp1252", "utf-8"])
def test_marks_have_a_plain_form_where_the_output_needs_one(encoding: str) -> None:
    ended = run(["check", DEMO], encoding=encoding)
    assert ended.exit_code == 1
    assert ("●" if encoding == "utf-8" else "  + ") in ended.output
    assert ("→" if encoding == "utf-8" else "->") in ended.output


def test_what_cannot_be_written_is_said(tmp_path: Path) -> None:
    ended = run(["check", DEMO, "--junit", str(tmp_path / "none" / "report.xml")])
    assert "report.xml cannot be written" in sentence_of(ended.exit_code, ended.output)
    file = tmp_path / "a.lists"
    file.write_text("list door ipv4 standard\n5 deny any\n")
    file.chmod(0o444)
    if os.access(file, os.W_OK):
        pytest.skip("this user may write anything")
    ended = run(["format", str(file), "--write"])
    assert "cannot be written" in sentence_of(ended.exit_code, ended.output)


def test_the_version_and_what_is_no_command() -> None:
    assert run(["--version"]).output == f"grey-heron {__version__}\n"
    ended = run(["brew"])
    assert "No such command" in sentence_of(ended.exit_code, ended.output)
    ended = run(["trace", DEMO])
    assert "Missing" in sentence_of(ended.exit_code, ended.output)


def started(*arguments: str, **how: object) -> "subprocess.Popen[bytes]":
    """The command, which Ctrl+C stops even where the tests themselves run in the background of a shell."""
    command = [sys.executable, "-m", "greyheron", *arguments]
    return subprocess.Popen(  # type: ignore[call-overload,no-any-return]
        command,
        stderr=subprocess.PIPE,
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),
        **how,
    )


def test_a_reader_that_leaves_and_a_disk_that_is_full() -> None:
    with started("check", DEMO, stdout=subprocess.PIPE) as leaving:
        assert leaving.stdout is not None
        leaving.stdout.close()
        assert (leaving.wait(), leaving.stderr and leaving.stderr.read()) == (141, b"")
    with open("/dev/full", "wb") as full, started("check", DEMO, stdout=full) as ended:
        assert ended.wait() == 2
        assert ended.stderr is not None
        assert ended.stderr.read() == b"What is printed cannot be written: No space left on device.\n"


def test_being_stopped_is_no_traceback(tmp_path: Path) -> None:
    fifo = tmp_path / "slow.yaml"
    os.mkfifo(fifo)
    with started("check", str(fifo), stdout=subprocess.PIPE) as waiting:
        with fifo.open("wb"):  # opens once the command reads it: its modules are there
            waiting.send_signal(signal.SIGINT)
            assert waiting.wait() == 130
        assert waiting.stderr is not None
        assert waiting.stderr.read() == b"Stopped.\n"


def _garbage(path: Path) -> None:
    path.write_bytes(b"no database at all, and long enough to be read as one" * 20)


def _half(path: Path) -> None:
    open_database(path).dispose()
    content = path.read_bytes()
    path.write_bytes(content[: len(content) // 2])


def _later(path: Path) -> None:
    open_database(path).dispose()
    with closing(sqlite3.connect(path)) as opened, opened:
        opened.execute("UPDATE alembic_version SET version_num = '9999'")


def _of_another(path: Path) -> None:
    with closing(sqlite3.connect(path)) as opened, opened:
        opened.execute("CREATE TABLE birds (name TEXT)")


DATABASES: dict[str, tuple[Callable[[Path], object], str]] = {
    "garbage": (_garbage, "is no database"),
    "half of one": (_half, "is damaged"),
    "of a later version": (_later, "by a later Grey Heron"),
    "of another program": (_of_another, "another program (with birds)"),
    "a folder": (Path.mkdir, "is a folder"),
}


@pytest.mark.parametrize("kind", DATABASES)
def test_a_database_that_cannot_be_used_is_one_sentence_and_unchanged(kind: str, tmp_path: Path) -> None:
    make, words = DATABASES[kind]
    path = tmp_path / "networks.db"
    make(path)
    before = path.read_bytes() if path.is_file() else b""
    ended = run(["serve", "--port", "0", "--data", str(tmp_path)])
    assert words in sentence_of(ended.exit_code, ended.output)
    assert "nothing was changed" in ended.output
    assert ended.output.count("\n") == 1
    assert (path.read_bytes() if path.is_file() else b"") == before


def test_a_data_folder_that_is_a_file(tmp_path: Path) -> None:
    file = tmp_path / "file"
    file.touch()
    ended = run(["serve", "--port", "0", "--data", str(file)])
    assert "is a file, and a folder is needed" in sentence_of(ended.exit_code, ended.output)


def test_why_a_database_cannot_be_opened_is_told_by_its_code_and_not_by_its_words(tmp_path: Path) -> None:
    path = tmp_path / "full of locked and malformed things.db"
    said = {}
    for code in (
        sqlite3.SQLITE_FULL,
        sqlite3.SQLITE_READONLY_DIRECTORY,
        sqlite3.SQLITE_BUSY_SNAPSHOT,
        sqlite3.SQLITE_CORRUPT,
        sqlite3.SQLITE_NOTADB,
        sqlite3.SQLITE_CANTOPEN,
    ):
        error = sqlite3.OperationalError(f"in words that nobody reads: {path}")
        error.sqlite_errorcode = code
        said[code] = reason(path, error).removeprefix(str(path))
    assert [text.split(";")[0] for text in said.values()] == [
        " is on a disk that is full",
        " may only be read",
        " is held by another program",
        " is damaged",
        " is no database",
        " may not be opened",
    ]
    assert "is on a disk that is full" in reason(path, OSError(errno.ENOSPC, "no room"))


def test_a_port_in_use_is_said_before_an_address_is(tmp_path: Path) -> None:
    with socket.create_server(("127.0.0.1", 0)) as taken:
        port = str(taken.getsockname()[1])
        ended = run(["serve", "--port", port, "--data", str(tmp_path / "data")])
    assert f"Port {port}" in sentence_of(ended.exit_code, ended.output)
    assert "is at" not in ended.output
    assert not (tmp_path / "data").exists()


def test_a_backup_replaces_neither_the_database_nor_what_is_there(tmp_path: Path) -> None:
    data, copy = tmp_path / "data", tmp_path / "copy.db"
    open_database(data / "networks.db").dispose()
    before = (data / "networks.db").read_bytes()
    link = tmp_path / "link.db"
    link.symlink_to(data / "networks.db")
    for target in (data / "networks.db", data / "." / "networks.db", link, data / "networks.db-wal"):
        for force in ([], ["--force"]):
            ended = run(["backup", str(target), "--data", str(data), *force])
            assert "is the database that is to be copied" in sentence_of(ended.exit_code, ended.output)
    assert (data / "networks.db").read_bytes() == before
    copy.write_bytes(b"something else")
    ended = run(["backup", str(copy), "--data", str(data)])
    assert "is there already" in sentence_of(ended.exit_code, ended.output)
    assert copy.read_bytes() == b"something else"
    assert run(["backup", str(copy), "--data", str(data), "--force"]).exit_code == 0
    assert copy.read_bytes()[:6] == b"SQLite"
    assert copy.stat().st_mode & 0o077 == 0


def test_a_database_is_its_owners_only_and_one_that_was_not_becomes_so(tmp_path: Path) -> None:
    database = tmp_path / "data" / "networks.db"
    open_database(database).dispose()
    assert database.stat().st_mode & 0o077 == 0
    assert database.parent.stat().st_mode & 0o077 == 0
    database.chmod(0o644)
    open_database(database).dispose()
    assert database.stat().st_mode & 0o077 == 0


def test_a_file_that_cannot_be_written_whole_is_as_it_was(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    file = tmp_path / "lists.txt"
    file.write_bytes(b"before")
    file.chmod(0o640)
    write_whole(file, b"after")
    assert (file.read_bytes(), file.stat().st_mode & 0o777) == (b"after", 0o640)
    monkeypatch.setattr("os.fsync", lambda _descriptor: (_ for _ in ()).throw(OSError(28, "No space left")))
    with pytest.raises(CannotGoOn, match="No space left"):
        write_file(file, "half")
    assert file.read_bytes() == b"after"
    assert [each.name for each in tmp_path.iterdir()] == ["lists.txt"]


def test_networks_are_written_for_their_owner_only(tmp_path: Path) -> None:
    source, target = tmp_path / "in.yaml", tmp_path / "out.yaml"
    source.write_text("format: grey-heron/1\nname: x\n")
    assert run(["convert", str(source), "--output", str(target)]).exit_code == 0
    assert target.stat().st_mode & 0o077 == 0


def test_backups_are_made_and_put_back_and_nothing_else_is(tmp_path: Path) -> None:
    data, copy = tmp_path / "data", tmp_path / "copy.db"
    ended = run(["backup", str(copy), "--data", str(data)])
    assert "There is no database" in sentence_of(ended.exit_code, ended.output)
    open_database(data / "networks.db").dispose()
    assert run(["backup", str(copy), "--data", str(data)]).exit_code == 0
    assert run(["restore", str(copy), "--data", str(data)]).exit_code == 0
    assert len(list(data.glob("networks-before-*.db"))) == 1
    _of_another(tmp_path / "birds.db")
    ended = run(["restore", str(tmp_path / "birds.db"), "--data", str(data)])
    assert "another program" in sentence_of(ended.exit_code, ended.output)
    assert not list(data.glob("*.restoring*"))


@pytest.mark.parametrize(
    ("words", "closed", "status", "told"),
    [
        (("check", "-"), 0, 2, "There is no standard input to read"),
        (("check", DEMO), 1, 1, ""),
        (("check", "nothing-here"), 2, 2, None),
        (("check", "/proc/self/mem"), None, 2, "/proc/self/mem cannot be read: Input/output error"),
        (("convert", "/proc/self/mem"), None, 2, "/proc/self/mem cannot be read: Input/output error"),
    ],
)
def test_closed_streams_and_files_that_do_not_read(
    words: Sequence[str], closed: int | None, status: int, told: str | None, tmp_path: Path
) -> None:
    errors = tmp_path / "errors"
    with errors.open("wb") as into:
        ended = subprocess.run(
            [sys.executable, "-m", "greyheron", *words],
            stdout=subprocess.DEVNULL,
            stderr=into,
            preexec_fn=None if closed is None else partial(os.close, closed),
            check=False,
        )
    assert ended.returncode == status
    said = errors.read_text()
    assert "Traceback" not in said
    assert said == "" if not told else told in said


def test_a_closed_stream_is_no_place_for_a_file(tmp_path: Path) -> None:
    """Else what is printed would go into the first file that is opened."""
    file, target = tmp_path / "network.yaml", tmp_path / "out.yaml"
    file.write_bytes(Path(DEMO).read_bytes())
    subprocess.run(
        [sys.executable, "-m", "greyheron", "convert", str(file), "--output", str(target)],
        preexec_fn=partial(os.closerange, 0, 3),
        check=True,
    )
    assert file.read_bytes() == Path(DEMO).read_bytes()
    assert read_workspace(target.read_bytes()) == read_workspace(file.read_bytes())


@pytest.mark.parametrize("after", [0.05, 0.1, 0.2, 0.3, 0.5])
def test_ctrl_c_is_a_word_at_any_moment(after: float) -> None:
    with started("check", DEMO, stdout=subprocess.DEVNULL) as running:
        wait_for_interpreter(running.pid)
        time.sleep(after)
        running.send_signal(signal.SIGINT)
        assert running.stderr is not None
        said = running.stderr.read()
    assert b"Traceback" not in said
    assert (running.returncode, said) in ((130, b"Stopped.\n"), (1, b""))


def wait_for_interpreter(pid: int) -> None:
    """Until it runs our own code: before, the system's own answer to Ctrl+C is that the process is gone."""
    ours = Path(f"/proc/{pid}/status")
    while not int(ours.read_text().split("SigCgt:")[1].split()[0], 16) >> (signal.SIGINT - 1) & 1:
        time.sleep(0.002)
    time.sleep(0.05)


WRITING: dict[str, list[str]] = {
    "check": [DEMO, "--junit", "OUT"],
    "findings": [DEMO, "--sarif", "OUT"],
    "convert": [DEMO, "--output", "OUT"],
    "rehearse": [DEMO, "--junit", "OUT"],
}


@pytest.mark.parametrize("command", WRITING)
def test_a_file_that_is_there_is_replaced_only_when_told(command: str, tmp_path: Path) -> None:
    target = tmp_path / "out"
    target.write_text("what was there")
    words = [command, *(str(target) if word == "OUT" else word for word in WRITING[command])]
    ended = run(words)
    assert "is there already; nothing was changed" in sentence_of(ended.exit_code, ended.output)
    assert target.read_text() == "what was there"
    if command != "rehearse":
        assert run([*words, "--force"]).exit_code in (0, 1)
        assert target.read_text() != "what was there"


def test_a_folder_of_files_is_written_over_only_when_told(tmp_path: Path) -> None:
    out = tmp_path / "out"
    words = ["convert", DEMO, "--to", "yang", "--output", str(out)]
    assert run(words).exit_code in (0, 1)
    first = {each: each.read_bytes() for each in out.iterdir()}
    assert all(each.stat().st_mode & 0o077 == 0 for each in first)
    next(iter(first)).write_text("mine")
    ended = run(words)
    assert "is there already" in sentence_of(ended.exit_code, ended.output)
    assert next(iter(first)).read_text() == "mine"
    assert run([*words, "--force"]).exit_code in (0, 1)
    assert {each: each.read_bytes() for each in out.iterdir()} == first


def test_what_is_written_may_go_into_what_is_no_file() -> None:
    """What is there is no file, and nothing of it is replaced."""
    assert run(["check", DEMO, "--junit", "/dev/null"]).exit_code == 1
