"""`grey-heron tidy`: lists as short as they can be, deciding alike."""

from pathlib import Path
from typing import Annotated

import typer

from greyheron.analysis.entries.tidy import TidyStep
from greyheron.cli.reading import (
    UNEXPECTED,
    CannotGoOn,
    network_in,
    print_data,
    text_of,
    with_lists,
    write_file,
)
from greyheron.cli.scheduling import Scheduler, derived_state
from greyheron.compute.documents import RunningAndDraft
from greyheron.compute.questions.tidy import TidiedList, TidyQuestion
from greyheron.model.document import AccessList, Network
from greyheron.model.notation.lists import read_body


def tidy(
    file: Annotated[Path, typer.Argument(help="A workspace file.")],
    lists: Annotated[
        list[str] | None, typer.Option("--list", help="Only this list; may be repeated.")
    ] = None,
    write: Annotated[bool, typer.Option("--write", help="Rewrite the file.")] = False,
    check_only: Annotated[bool, typer.Option("--check", help="Only report what could be shorter.")] = False,
    scheduler: Scheduler = None,
) -> None:
    """Make lists shorter without changing what they decide, step by step.

    Without --write or --check, prints the shortened file.
    Exit status: 0 done or nothing to do, 1 a list could be shorter (--check), 2 bad file.
    """
    text = text_of(file)
    network = network_in(file, text)
    unknown = sorted(set(lists or ()) - {each.name for each in network.lists})
    if unknown:
        raise CannotGoOn(f"There is no list “{unknown[0]}” in {file}.")
    question = TidyQuestion(lists=tuple(lists) if lists else None)
    with derived_state(network, scheduler) as state:
        tidied = state.ask(question, RunningAndDraft.same(network))
    for each in tidied:
        _tell(each)
    shorter = {each.name: each for each in tidied if each.steps}
    if write and shorter:
        write_file(file, _written(text, network, shorter))
    elif not (write or check_only):
        print_data(_written(text, network, shorter))
    if check_only and shorter:
        raise typer.Exit(UNEXPECTED)


def _tell(tidied: TidiedList) -> None:
    """What became of a list, on standard error: the file may go to standard output."""
    if tidied.steps:
        typer.echo(f"{tidied.name}: {tidied.before} entries, now {tidied.after}", err=True)
    for step in tidied.steps:
        typer.echo(f"    {_words(step)}", err=True)


def _words(step: TidyStep) -> str:
    numbers = ", ".join(map(str, step.of))
    return f"{numbers} → {'out' if step.into is None else step.into}: {step.why}"


def _written(text: str, network: Network, shorter: dict[str, TidiedList]) -> str:
    def as_tidied(access_list: AccessList) -> AccessList:
        found = shorter.get(access_list.name)
        if found is None:
            return access_list
        body = read_body(found.entries, access_list.family, access_list.kind)
        return access_list.model_copy(update={"body": body})

    return with_lists(text, network, map(as_tidied, network.lists))
