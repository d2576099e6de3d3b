"""`grey-heron traffic`: what was really there, and what the network makes of it."""

from pathlib import Path
from typing import Annotated

import typer
from msgspec import to_builtins

from greyheron.analysis.traffic.folding import fold
from greyheron.analysis.traffic.judging import Impossibility, odd, parties_of
from greyheron.analysis.traffic.told import TrafficRow, rows_of
from greyheron.cli.check import MARKS
from greyheron.cli.reading import UNEXPECTED, AsJson, CannotGoOn, File, out, print_json, read_file
from greyheron.cli.scheduling import Scheduler, derived_state
from greyheron.compute.documents import RunningAndDraft
from greyheron.compute.questions.traffic import TrafficQuestion
from greyheron.formats.bundle import bundle_in
from greyheron.formats.traffic import read_traffic
from greyheron.formats.traffic.tables import COLUMNS

MOST_SHOWN = 200


def traffic(
    file: File,
    capture: Annotated[
        Path, typer.Argument(help="A capture, flow records, a connection table, or a folder.")
    ],
    columns: Annotated[
        list[str] | None,
        typer.Option("--column", help="For tables: FIELD=COLUMN, e.g. source=client. May be repeated."),
    ] = None,
    as_json: AsJson = False,
    scheduler: Scheduler = None,
) -> None:
    """Replay recorded traffic against the network in FILE, conversation by conversation.

    Exit status: 0 everything gets through, 1 something does not or is impossible, 2 bad file.
    """
    network = read_file(file)
    records, notices, _ = read_traffic(bundle_in(capture), _mapping(columns or []))
    seen = fold(records)
    with derived_state(network, scheduler) as state:
        judged = state.ask(TrafficQuestion(seen=seen), RunningAndDraft.same(network))
        world = state.timeline(network).first
    parties = parties_of(seen, world)
    rows = rows_of(seen, parties, judged, odd(seen, parties, judged[1]), world)
    for notice in notices:
        typer.echo(f"left out: {notice}", err=True)
    if as_json:
        print_json(to_builtins(rows))
    else:
        _print(rows)
    if any(row.odd or row.draft != "passes" for row in rows):
        raise typer.Exit(UNEXPECTED)


def _mapping(columns: list[str]) -> dict[str, str]:
    found = {}
    for each in columns:
        what, equals, name = each.partition("=")
        if not equals or what not in COLUMNS:
            raise CannotGoOn(f"“{each}” names no column: write WHAT=NAME, WHAT one of {', '.join(COLUMNS)}.")
        found[what] = name
    return found


def _print(rows: list[TrafficRow]) -> None:
    ordered = sorted(rows, key=lambda row: (row.odd is None, row.draft == "passes"))
    for row in ordered[:MOST_SHOWN]:
        ends = [
            f"{device} ({address})" if device else address
            for device, address in ((row.from_device, row.source), (row.to_device, row.destination))
        ]
        mark = MARKS[row.draft] if row.draft else "·"
        why = f", {row.decided}" if row.decided else ""
        strange = f" [bold]{row.odd}[/bold]" if row.odd else ""
        out.print(f"{mark} {ends[0]} → {ends[1]} {row.service}: {row.packets:,} packets{why}{strange}")
    if len(rows) > MOST_SHOWN:
        out.print(f"and {len(rows) - MOST_SHOWN:,} more")
    stopped = sum(row.draft not in ("passes", None) for row in rows)
    cannot = sum(
        row.odd in (Impossibility.NOBODY_SENDS, Impossibility.NOBODY_THERE, Impossibility.NO_UNICAST)
        for row in rows
    )
    answered = sum(row.odd is Impossibility.ANSWERED for row in rows)
    out.print(
        f"{len(rows):,} conversations: {stopped:,} would not get through, of which {answered:,} were "
        f"answered; {cannot:,} are with somebody who is not here."
    )
