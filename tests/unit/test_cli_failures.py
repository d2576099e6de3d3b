"""What can go wrong on the command line: each a sentence and status 2, never a traceback."""

import os
import signal
import socket
import sqlite3
import subprocess
import sys
from collections.abc import Callable
from contextlib import closing
from importlib.resources import files
from pathlib import Path

import pytest

from greyheron import __version__
from greyheron.cli.main import COMMANDS
from greyheron.cli.reading import CannotGoOn, write_file
from greyheron.cli.writing import write_whole
from greyheron.store.database import open_database
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


def test_a_data_folder_that_is_a_file_and_a_full_disk(tmp_path: Path) -> None:
    file = tmp_path / "file"
    file.touch()
    ended = run(["serve", "--port", "0", "--data", str(file)])
    assert "is a file, and a folder is needed" in sentence_of(ended.exit_code, ended.output)
    ended = run(["serve", "--port", "0", "--data", "/dev/full/x"])
    assert "is full" in sentence_of(ended.exit_code, ended.output)


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
