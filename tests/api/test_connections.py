"""Connections that ask for nothing, or ask without end, keep nobody out."""

import logging
import socket
import time
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path
from threading import Thread

import pytest
import uvicorn

from greyheron.server.access import Access
from greyheron.server.app import make_app
from greyheron.server.connections import BoundedConnection
from greyheron.server.logs import BETWEEN, Repeats
from greyheron.store.database import open_database

PATIENCE = 30.0
ASKED = b"GET /health HTTP/1.1\r\nHost: 127.0.0.1\r\n\r\n"


class Hasty(BoundedConnection):
    """As patient as a test can wait for."""

    most, idle, pause, longest = 12, 0.5, 0.5, 1.5


@pytest.fixture
def port(tmp_path: Path) -> Iterator[int]:
    app = make_app(open_database(tmp_path / "networks.db"), Access(), None)
    listening = socket.create_server(("127.0.0.1", 0))
    server = uvicorn.Server(uvicorn.Config(app, http=Hasty, ws="none", log_config=None))
    running = Thread(target=server.run, kwargs={"sockets": [listening]})
    running.start()
    yield int(listening.getsockname()[1])
    server.should_exit = True
    running.join()
    listening.close()


def opened(port: int, said: bytes = b"") -> socket.socket:
    found = socket.create_connection(("127.0.0.1", port), timeout=PATIENCE)
    found.sendall(said)
    return found


def is_closed(connection: socket.socket) -> bool:
    """Waits until the server has closed it."""
    try:
        while connection.recv(1 << 16):
            pass
    except ConnectionError:
        return True
    except TimeoutError:
        return False
    return True


def answers(port: int) -> bool:
    with closing(opened(port, ASKED)) as asking:
        return asking.recv(1 << 12).startswith(b"HTTP/1.1 200")


@pytest.mark.parametrize(
    "said",
    [
        b"",
        b"\r\n",
        b"GET /health HTTP/1.1\r\nHost: 127.0.0",
        b"POST /api/networks/import HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 1000\r\n\r\nabc",
    ],
    ids=["nothing", "an empty line", "half a head", "half a body"],
)
def test_who_asks_for_nothing_is_let_go(port: int, said: bytes) -> None:
    with closing(opened(port, said)) as connection:
        assert is_closed(connection)
    assert answers(port)


def test_who_asks_without_end_is_let_go(port: int) -> None:
    head = b"POST /api/networks/import HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 100000\r\n\r\n"
    with closing(opened(port, head)) as connection:
        connection.settimeout(0.05)
        end = time.monotonic() + PATIENCE
        gone = False
        while not gone and time.monotonic() < end:
            try:
                connection.sendall(b"x")
                gone = not connection.recv(10)
            except TimeoutError:
                continue
            except OSError:
                gone = True
        assert gone


def test_many_idle_connections_keep_nobody_out(port: int) -> None:
    idle = [opened(port) for _ in range(3 * Hasty.most)]
    assert answers(port)
    for each in idle:
        assert is_closed(each)
        each.close()


def test_a_request_that_takes_its_time_is_answered(port: int) -> None:
    with closing(opened(port, b"GET /health HTTP/1.1\r\n")) as connection:
        time.sleep(0.2)
        connection.sendall(b"Host: 127.0.0.1\r\n\r\n")
        assert connection.recv(1 << 12).startswith(b"HTTP/1.1 200")
    assert answers(port)


def line(said: str, at: float, level: int = logging.ERROR) -> logging.LogRecord:
    record = logging.LogRecord("asyncio", level, "", 0, said, (), None)
    record.created = at
    return record


def test_what_repeats_is_one_line_a_minute() -> None:
    repeats = Repeats()
    passed = [repeats.filter(line("socket.accept() out of system resource", at / 100)) for at in range(1000)]
    assert passed.count(True) == 1
    assert repeats.filter(line("something else", 1.0))
    assert all(repeats.filter(line("GET / 200", 1.0, logging.INFO)) for _ in range(3))
    later = line("socket.accept() out of system resource", BETWEEN + 1)
    assert repeats.filter(later)
    assert later.getMessage().endswith("(999 times more in the last minute)")
