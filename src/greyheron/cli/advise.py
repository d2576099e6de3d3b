"""`grey-heron advise` and `findings`: where lists should go, and what is wrong."""

from dataclasses import replace
from pathlib import Path
from typing import Annotated

import typer
from msgspec import structs, to_builtins

from greyheron.analysis.advice.advisor import wanted
from greyheron.analysis.advice.choices import Choice
from greyheron.analysis.advice.plans import PolicyPlan
from greyheron.analysis.findings.finder import noted
from greyheron.analysis.findings.finding import Severity, counted
from greyheron.analysis.findings.repairs import unrepaired
from greyheron.cli.reading import (
    STANDARD_INPUT,
    UNEXPECTED,
    AsJson,
    CannotGoOn,
    File,
    Force,
    content_of,
    network_in,
    out,
    print_json,
    read_file,
    require_free,
    write_file,
)
from greyheron.cli.scheduling import Scheduler, derived_state
from greyheron.compute.documents import RunningAndDraft
from greyheron.compute.questions.advice import AdviceQuestion
from greyheron.compute.questions.all_holding import AllHoldingQuestion
from greyheron.compute.questions.findings import FindingsQuestion
from greyheron.formats.sarif import write_sarif
from greyheron.model.document import Network, to_data
from greyheron.model.values import ListKind


def advise(
    file: File,
    asked: Annotated[
        str | None, typer.Argument(help="A requirement, or a test flow with pass or block.")
    ] = None,
    every: Annotated[
        bool, typer.Option("--all", help="Make all requirements of the file hold at once.")
    ] = False,
    as_json: AsJson = False,
    kind: Annotated[
        ListKind | None, typer.Option("--kind", help="Only extended lists, or only standard ones.")
    ] = None,
    scheduler: Scheduler = None,
) -> None:
    """Show where a list would make a requirement or test flow hold.

    Exit status: 0 it holds or can be made to hold, 1 it cannot, 2 bad file.
    """
    if (asked is None) is not every:
        raise CannotGoOn("Name a requirement or a test flow, or ask for all requirements with --all.")
    network = read_file(file)
    if asked is None:
        _all_hold(network, as_json, scheduler)
        return
    statement = wanted(asked, network)
    with derived_state(network, scheduler) as state:
        found = state.ask(AdviceQuestion(statement=statement), RunningAndDraft.same(network))
    chosen = [choice for choice in found.choices if kind is None or choice.kind is kind]
    if as_json:
        print_json({"text": found.text, "choices": [_data_of(each) for each in chosen]})
    else:
        out.print(found.text, markup=False)
        apart = False
        for choice in chosen:
            if choice.on_hosts and not apart:
                apart = True
                out.print("\nFilters of hosts themselves:", markup=False)
            out.print(f"\n{'✓' if choice.holds else '·'} {choice.text}", markup=False)
            out.print(
                f"    {choice.kind} list {choice.list} ({choice.measure})" + ":" * bool(choice.entries),
                markup=False,
            )
            for line in "\n".join(choice.entries).splitlines():
                out.print(f"      {line}", markup=False)
    if found.choices and not any(choice.holds for choice in chosen):
        raise typer.Exit(UNEXPECTED)


def _all_hold(network: Network, as_json: bool, scheduler: str | None) -> None:
    """Print the plans that make all requirements hold; ends with 1 where there is none."""
    with derived_state(network, scheduler) as state:
        found = state.ask(AllHoldingQuestion(), RunningAndDraft.same(network))
    if as_json:
        plans = [_data_of(each) for each in found.plans]
        print_json({"text": found.text, "plans": plans, "at_odds": list(found.at_odds)})
    else:
        out.print(found.text, markup=False)
        for statement in found.at_odds:
            out.print(f"    {statement}", markup=False)
        for plan in found.plans:
            _print_plan(plan)
    if found.at_odds:
        raise typer.Exit(UNEXPECTED)


def _data_of(offered: Choice | PolicyPlan) -> dict[str, object]:
    """As plain data, with its changes as documents have them."""
    plain = to_builtins(replace(offered, changes=()))
    return {**plain, "changes": [to_data(change) for change in offered.changes]}


def _print_plan(plan: PolicyPlan) -> None:
    sizes = f"{counted(plan.places, 'new place')}, new entries: {plan.entries}"
    out.print(f"\n{', '.join(plan.aims)}: {sizes}", markup=False)
    for each in plan.lists:
        out.print(f"    {each.name} ({'new' if each.new else 'extended'}):", markup=False)
        for line in each.added:
            out.print(f"      {line}", markup=False)
        for place in each.places:
            out.print(f"      placed {place}", markup=False)
    for flow in plan.broken:
        out.print(f"    would fail: {flow}", markup=False)
    for device in plan.locked:
        out.print(f"    nobody on the map could log in to {device}", markup=False)
    for host in plan.hosts:
        out.print(f"    needs a filter of {host} itself", markup=False)
    for pair in plan.cut:
        out.print(f"    no longer routing neighbours: {pair}", markup=False)


def findings(
    file: File,
    least: Annotated[Severity, typer.Option("--least", help="Only this severity and above.")] = Severity.NOTE,
    as_json: AsJson = False,
    sarif: Annotated[
        Path | None, typer.Option("--sarif", help="Also write them to this file as SARIF 2.1.0.")
    ] = None,
    force: Force = False,
    scheduler: Scheduler = None,
) -> None:
    """List likely mistakes. Exit status: 0 nothing above a note, 1 faults or warnings, 2 bad file."""
    require_free(sarif, force)
    content = content_of(file)
    network = network_in(file, content)
    with derived_state(network, scheduler) as state:
        every = state.ask(FindingsQuestion(), RunningAndDraft.same(network))
    order = list(Severity)
    found = [
        each
        for each in noted(every, network.accepted)
        if order.index(each.finding.severity) <= order.index(least)
    ]
    if sarif is not None:
        write_file(
            sarif,
            write_sarif(
                None if str(file) == STANDARD_INPUT else str(file), content.decode("utf-8-sig"), found
            ),
        )
    if as_json:
        data = [
            {
                **to_builtins(structs.replace(each.finding, repair=None)),
                "key": each.finding.key,
                "digest": each.finding.digest,
                "repair": None if each.finding.repair is None else each.finding.repair.label,
                "unrepaired": unrepaired(each.finding),
                "accepted": each.accepted,
            }
            for each in found
        ]
        print_json({"network": network.name, "findings": data})
    else:
        for each in found:
            accepted = f" (accepted: {each.accepted})" if each.accepted else ""
            out.print(f"{each.finding.severity:<8} {each.finding.text}{accepted}", markup=False)
            for line in each.finding.evidence:
                out.print(f"           {line}", markup=False)
    if any(each.accepted is None and each.finding.severity is not Severity.NOTE for each in found):
        raise typer.Exit(UNEXPECTED)
