"""`grey-heron reach`: who can talk to whom, as a table."""

from typing import Annotated

import typer

from greyheron.analysis.reach.matrix import rows_of
from greyheron.analysis.reach.question import ReachError, ReachQuestion, require_services
from greyheron.cli.reading import AsJson, CannotGoOn, File, print_data, print_json, read_file
from greyheron.cli.scheduling import Scheduler, derived_state
from greyheron.compute.documents import RunningAndDraft
from greyheron.compute.questions.reach import MatrixQuestion
from greyheron.core.bulk.engine import VERDICT_ORDER
from greyheron.formats.spreadsheet import write_table
from greyheron.model.services import OWN_SERVICES
from greyheron.model.values import Family


def reach(
    file: File,
    services: Annotated[
        list[str] | None,
        typer.Argument(help="Services to try; by default those each device listens on, and ping."),
    ] = None,
    six: Annotated[bool, typer.Option("--ipv6", help="Use IPv6.")] = False,
    hosts_only: Annotated[bool, typer.Option("--hosts-only", help="Only between hosts.")] = False,
    as_json: AsJson = False,
    scheduler: Scheduler = None,
) -> None:
    """Show who can talk to whom: a CSV table with a row for each sender and a column for each destination.

    Exit status: 0, or 2 for a bad file or service.
    """
    network = read_file(file)
    family = Family.IPV6 if six else Family.IPV4
    question = ReachQuestion(tuple(services or (OWN_SERVICES, "ping")), family, hosts_only)
    with derived_state(network, scheduler) as state:
        try:
            require_services(state.world(network), question)
        except ReachError as error:
            raise CannotGoOn(f"Reach cannot be worked out: {error}.") from None
        found = state.ask(MatrixQuestion(asked=question), RunningAndDraft.same(network))
    devices = found.axis.devices
    if as_json:
        print_json({"network": network.name, "devices": devices, "cells": rows_of(found.draft)})
        return
    words = [_words(bits) for bits in range(1 << len(VERDICT_ORDER))]
    rows = (
        [name, *(words[bits] for bits in row)]
        for name, row in zip(devices, found.draft.tolist(), strict=True)
    )
    print_data(write_table([["from \\ to", *devices], *rows]))


def _words(bits: int) -> str:
    found = [str(verdict) for index, verdict in enumerate(VERDICT_ORDER) if bits >> index & 1]
    return " and ".join(found) or "nothing asked"
