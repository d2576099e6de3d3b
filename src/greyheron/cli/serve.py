"""`grey-heron serve`: the workbench on a local address."""

import getpass
import logging
import os
import socket
import sys
import webbrowser
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from importlib.resources import files
from pathlib import Path
from threading import Thread
from time import sleep
from typing import Annotated

import typer
import uvicorn

from greyheron.cli.backup import DATA, DATABASE, Folder
from greyheron.cli.reading import CannotGoOn, out
from greyheron.cli.scheduling import Scheduler, pool_of
from greyheron.compute.derived import MEMORY
from greyheron.compute.tasks import WorkerPool
from greyheron.compute.workers import Workers
from greyheron.demo.networks import saltmarsh
from greyheron.server.access import LOOPBACK, Access, Entrance
from greyheron.server.app import make_app
from greyheron.server.connections import BoundedConnection, most_connections
from greyheron.server.logs import LogFormat, write_logs
from greyheron.store.database import open_database
from greyheron.store.networks import NetworkStore

PORT = 8470
MIB = 1 << 20
SHORTEST_TOKEN = 12
MOST_WORKERS = 8
"""So many processes do long work at most, unless there should be more."""
TURN = 0.0005
"""Seconds that a thread which computes keeps the one that answers waiting, whenever that needs a turn."""
FINISHING = 20
"""Seconds that requests which were accepted have to be answered when the server ends."""


def serve(
    host: Annotated[str, typer.Option(help="The address to listen on.")] = "127.0.0.1",
    port: Annotated[int, typer.Option(min=0, max=65535, help="0 picks a free port.")] = PORT,
    data: Folder = DATA,
    interface: Annotated[Path | None, typer.Option(help="Serve the workbench from this folder.")] = None,
    demo: Annotated[
        bool, typer.Option("--demo", help="Add the demo network if the database is empty.")
    ] = False,
    show: Annotated[
        bool | None, typer.Option("--open/--no-open", help="Open the browser; the default with --demo.")
    ] = None,
    token_file: Annotated[
        Path | None,
        typer.Option(help="Read the access token from this file instead of GREY_HERON_TOKEN."),
    ] = None,
    socket_path: Annotated[
        Path | None, typer.Option("--socket", help="Listen on a Unix socket that only this user can open.")
    ] = None,
    token: Annotated[str | None, typer.Option(hidden=True)] = None,
    also: Annotated[
        list[str] | None, typer.Option("--name", help="An additional host name to accept, e.g. a proxy's.")
    ] = None,
    memory: Annotated[int, typer.Option(min=64, help="Memory for cached results, in MiB.")] = MEMORY // MIB,
    workers: Annotated[
        int | None,
        typer.Option(min=0, max=64, help="Worker processes; by default one per core, 0 for none."),
    ] = None,
    scheduler: Scheduler = None,
    log_format: Annotated[LogFormat, typer.Option(help="Log format.")] = LogFormat.LINES,
    log_requests: Annotated[bool, typer.Option("--log-requests", help="Log every request.")] = False,
) -> None:
    """Serve the workbench. Listens on loopback only, unless an access token is set."""
    if token is not None:
        raise CannotGoOn(
            "A token on the command line can be read by everybody on this machine: put it into "
            "GREY_HERON_TOKEN, or into a file that is named with --token-file."
        )
    needed = token_of(token_file)
    if socket_path is None and host not in LOOPBACK and needed is None:
        raise CannotGoOn(
            f"Listening on {host} lets others in: give an access token in GREY_HERON_TOKEN or --token-file."
        )
    sys.setswitchinterval(TURN)
    with listening_at(host, port) if socket_path is None else at_socket(socket_path) as listening:
        write_logs(log_format, logging.INFO if log_requests else logging.WARNING)
        engine = open_database(data / DATABASE)
        store = NetworkStore(engine)
        if demo and not store.summaries():
            store.create(saltmarsh(), getpass.getuser())
        built = interface or Path(str(files("greyheron").joinpath("workbench")))
        if not (built / "index.html").is_file():
            out.print(f"There is no built workbench in {built}: serving the API alone.", markup=False)
        app = make_app(
            engine,
            Access(LOOPBACK | {host, *(each.lower() for each in also or ())}, needed),
            built if (built / "index.html").is_file() else None,
            memory * MIB,
            _pool(workers, scheduler, memory * MIB),
        )
        address = None if socket_path else _address(host, listening, app.state.entrance)
        out.print(f"Grey Heron is at {address or f'the socket {socket_path}'}", markup=False)
        sys.stdout.flush()
        config = uvicorn.Config(
            app,
            http=BoundedConnection,
            ws="none",
            log_config=None,
            server_header=False,
            timeout_graceful_shutdown=FINISHING,
        )
        BoundedConnection.most = most_connections()
        server = uvicorn.Server(config)
        if address is not None and (demo if show is None else show):
            Thread(target=_open_browser, args=(server, address), daemon=True).start()
        server.run(sockets=[listening])


def _pool(workers: int | None, scheduler: str | None, memory: int) -> WorkerPool | None:
    """Who does long work. Raises CannotGoOn and WorkersGone."""
    if scheduler is not None:
        if workers is not None:
            raise CannotGoOn("--workers and --scheduler say who does long work: give one of them.")
        return pool_of(scheduler)
    many = min(os.cpu_count() or 1, MOST_WORKERS) if workers is None else workers
    return Workers(many, memory // 2) if many else None


def token_of(file: Path | None) -> str | None:
    """The access token that is to be asked for, if any. Raises CannotGoOn, OSError."""
    if file is not None and file.stat().st_mode & 0o077:
        raise CannotGoOn(f"Others may read {file}, which holds the access token: let only its owner (0600).")
    text = os.environ.get("GREY_HERON_TOKEN") if file is None else file.read_text("utf-8")
    token = (text or "").strip()
    if not token and file is None:
        return None
    if len(token) < SHORTEST_TOKEN:
        raise CannotGoOn(f"The access token is too short: use at least {SHORTEST_TOKEN} characters.")
    return token


def _address(host: str, listening: socket.socket, entrance: Entrance | None) -> str:
    """Where a browser finds it; with a code that lets one in, once, where a token is needed."""
    shown = f"[{host}]" if ":" in host else host
    code = "" if entrance is None else f"?code={entrance.new_code()}"
    return f"http://{shown}:{listening.getsockname()[1]}/{code}"


@contextmanager
def at_socket(path: Path) -> Iterator[socket.socket]:
    """A Unix socket that only its owner may connect to; one that nobody listens at is replaced."""
    if path.is_socket():
        with socket.socket(socket.AF_UNIX) as asking:
            if asking.connect_ex(str(path)) == 0:
                raise CannotGoOn(f"Somebody listens at {path} already: end that, or name another --socket.")
        path.unlink()
    before = os.umask(0o177)
    try:
        listening = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
        listening.bind(str(path))
        listening.listen(128)
    except OSError as error:
        raise CannotGoOn(f"{path} cannot be listened at ({error.strerror or error}).") from None
    finally:
        os.umask(before)
    with listening:
        yield listening
    path.unlink(missing_ok=True)


def listening_at(host: str, port: int) -> socket.socket:
    """A socket that listens there. Raises CannotGoOn."""
    family = socket.AF_INET6 if ":" in host else socket.AF_INET
    # With its protocol named asyncio sends small answers at once (TCP_NODELAY), not 40 ms later.
    listening = socket.socket(family, socket.SOCK_STREAM, socket.IPPROTO_TCP)
    listening.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        listening.bind((host, port))
        listening.listen(128)
    except OSError as error:
        listening.close()
        raise CannotGoOn(
            f"Port {port} of {host} cannot be listened on ({error.strerror}): end what listens there, "
            "or choose another one with --port."
        ) from None
    return listening


def _open_browser(server: uvicorn.Server, address: str) -> None:
    """Show the workbench once it answers, where there is a screen to show it on."""
    if sys.platform == "linux" and not (os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY")):
        return
    while not server.started:
        sleep(0.05)
    with suppress(webbrowser.Error):
        webbrowser.open(address)
