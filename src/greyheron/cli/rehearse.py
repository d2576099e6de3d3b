"""`grey-heron rehearse`: the network in a real kernel, and its test flows as real packets."""

import sys
from collections.abc import Mapping, Sequence
from contextlib import suppress
from pathlib import Path
from typing import Annotated

import typer
from msgspec import to_builtins

from greyheron.cli.check import MARKS
from greyheron.cli.reading import (
    UNEXPECTED,
    AsJson,
    CannotGoOn,
    File,
    Force,
    out,
    print_json,
    read_file,
    require_free,
    write_file,
)
from greyheron.formats.junit import Case, write_suites
from greyheron.rehearsal.asking import Selection
from greyheron.rehearsal.report import RehearsalReport, TriedReport
from greyheron.rehearsal.runner import CannotRehearse, run_rehearsal

AGREES, DIFFERS = "✓", "✗"


def rehearse(
    file: File,
    tests: Annotated[
        list[str] | None, typer.Option("--test", help="Only this test flow, by its id. May be repeated.")
    ] = None,
    requirements: Annotated[
        list[str] | None,
        typer.Option("--requirement", help="Only this requirement, by its id. May be repeated."),
    ] = None,
    captures: Annotated[
        Path | None, typer.Option("--captures", help="Write packet captures to this folder.")
    ] = None,
    keep: Annotated[
        bool,
        typer.Option("--keep", help="Keep the network up until Enter is pressed, and print how to enter it."),
    ] = False,
    as_json: AsJson = False,
    junit: Annotated[
        Path | None, typer.Option("--junit", help="Write a JUnit XML report to this file.")
    ] = None,
    force: Force = False,
) -> None:
    """Build the network in this machine's kernel, send its flows, and compare with the prediction.

    A requirement is rehearsed with its violations and a few conversations that reach other entries.

    Exit status: 0 everything went as predicted, 1 something did not, 2 bad file or no rehearsal
    possible here.
    """
    for there in (junit, *(captures.glob("*.pcapng") if captures is not None else ())):
        require_free(there, force)
    network = read_file(file)
    every = Selection.all_of(network)
    selection = (
        every if tests is None and requirements is None else Selection(tests or (), requirements or ())
    )
    for kind, asked, there in (
        ("test flow", selection.tests, every.tests),
        ("requirement", selection.requirements, every.requirements),
    ):
        unknown = set(asked) - set(there)
        if unknown:
            raise CannotGoOn(f"There is no {kind} “{min(unknown)}” in {file}.")
    if captures is not None:
        captures.mkdir(parents=True, exist_ok=True, mode=0o700)

    def stand(report: RehearsalReport, ways_in: Mapping[str, str]) -> None:
        status.stop()
        _print(report)
        for device, command in ways_in.items():
            out.print(f"{device}: {command}")
        out.print("The network stands. Enter ends it.")
        with suppress(KeyboardInterrupt):
            sys.stdin.readline()

    with out.status("") as status:

        def progress(stage: str, done: float) -> None:
            status.update(f"{stage}, {done:.0%}" if done else stage)

        try:
            report = run_rehearsal(
                network, progress, selection, captures=captures, keep=stand if keep else None
            )
        except CannotRehearse as error:
            raise CannotGoOn(str(error)) from None
    if junit is not None:
        write_file(junit, write_suites(network.name, {"rehearsal": _cases(report)}))
    if as_json:
        print_json(to_builtins(report))
    elif not keep or not report.tried:
        _print(report)
    if report.differing:
        raise typer.Exit(UNEXPECTED)


_NOT_KNOWN = "not known, and rehearsed both with it and without"


def _cases(report: RehearsalReport) -> Sequence[Case]:
    rests = [f"{_NOT_KNOWN}: {line}" for line in report.rests_on]
    tried = [
        Case(
            each.flow,
            each.when,
            None
            if each.agrees
            else "; ".join(f"{x.fact}: {x.predicted}, but {x.seen}" for x in each.differences),
        )
        for each in report.tried
    ]
    return [*([Case("what it rests on", "the network", None, "\n".join(rests))] if rests else []), *tried]


def _print(report: RehearsalReport) -> None:
    for each in report.tried:
        mark = AGREES if each.agrees else DIFFERS
        whose = f", for {each.requirement}" if each.requirement else ""
        out.print(f"{mark} {MARKS[each.verdict]} {each.flow} [dim]{each.when}{whose}[/dim]")
        if not each.agrees:
            _tell(each)
    for line in report.left_out:
        out.print(f"· not tried: {line}")
    for line in report.rests_on:
        out.print(f"· {_NOT_KNOWN}: {line}")
    many = len(report.tried)
    differing = len(report.differing)
    told = f"{differing} went otherwise" if differing else "all went as predicted"
    outcome = (
        f"{many} conversation{'s' * (many != 1)}, {told}" if many else "there was no conversation to try"
    )
    out.print(f"{outcome}: built in {report.building_seconds:.1f} s, sent in {report.sending_seconds:.1f} s.")


def _tell(each: TriedReport) -> None:
    out.print(f"    predicted: {each.predicted}")
    out.print(f"    seen: {each.seen}")
    for difference in each.differences:
        out.print(f"    {difference.fact}: {difference.predicted}, but {difference.seen}")
    for packet in each.packets:
        out.print(f"      {packet}")
