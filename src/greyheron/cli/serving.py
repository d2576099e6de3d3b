"""`grey-heron serve`: the workbench on a local address."""

from pathlib import Path
from typing import Annotated

import typer
import uvicorn
from rich.console import Console

from greyheron.demo.networks import saltmarsh
from greyheron.server.app import make_app
from greyheron.server.safety import LOOPBACK, Access
from greyheron.store.database import open_database
from greyheron.store.networks import NetworkStore

PORT = 8470
console = Console(highlight=False, soft_wrap=True)


def serve(
    host: Annotated[str, typer.Option(help="The address to listen on.")] = "127.0.0.1",
    port: Annotated[int, typer.Option(min=0, max=65535)] = PORT,
    data: Annotated[Path, typer.Option(help="The folder for the database.")] = Path("grey-heron-data"),
    interface: Annotated[Path, typer.Option(help="The folder of the built workbench.")] = Path("ui/dist"),
    demo: Annotated[bool, typer.Option("--demo", help="Put the demo network in an empty database.")] = False,
    token: Annotated[str | None, typer.Option(envvar="GREY_HERON_TOKEN", help="An access token.")] = None,
) -> None:
    """Serve the workbench. Listens on loopback only, unless there is an access token."""
    if host not in LOOPBACK and not token:
        console.print(f"Listening on {host} lets others in: give an access token with --token.")
        raise typer.Exit(2)
    if token is not None and len(token) < 12:
        console.print("The access token is too short: use at least 12 characters.")
        raise typer.Exit(2)
    engine = open_database(data / "networks.db")
    store = NetworkStore(engine)
    if demo and not store.summaries():
        store.create(saltmarsh())
    built = interface if (interface / "index.html").is_file() else None
    if built is None:
        console.print(f"There is no built workbench in {interface}: serving the API alone.")
    app = make_app(engine, Access(LOOPBACK | {host}, token), built)
    shown = f"[{host}]" if ":" in host else host
    console.print(
        f"Grey Heron is at http://{shown}:{port}/{'?token=' + token if token else ''}", markup=False
    )
    uvicorn.run(app, host=host, port=port, log_level="warning", server_header=False)
