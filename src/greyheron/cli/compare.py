"""`grey-heron compare`: what one file has otherwise than another, and what that comes to."""

from pathlib import Path
from typing import Annotated

import typer
from msgspec import to_builtins

from greyheron.analysis.network.comparison import Comparison, sections, sentence
from greyheron.cli.reading import (
    STANDARD_INPUT,
    UNEXPECTED,
    AsJson,
    CannotGoOn,
    out,
    print_data,
    print_json,
    read_file,
)
from greyheron.cli.scheduling import Scheduler, derived_state
from greyheron.compute.comparison import compare as compare_states
from greyheron.compute.documents import RunningAndDraft
from greyheron.formats.markdown import write_markdown


def compare(
    old: Annotated[Path, typer.Argument(help="A workspace file.", allow_dash=True)],
    new: Annotated[Path, typer.Argument(help="A later version of the same network.", allow_dash=True)],
    as_json: AsJson = False,
    markdown: Annotated[
        bool, typer.Option("--markdown", help="Print Markdown, for the discussion of a proposed change.")
    ] = False,
    scheduler: Scheduler = None,
) -> None:
    """Show how NEW differs from OLD: packets, requirements, test flows, reach, findings.

    Exit status: 0 no difference, 1 differences, 2 bad file.
    """
    if as_json and markdown:
        raise CannotGoOn("--json and --markdown cannot both be printed: choose one.")
    if {str(old), str(new)} == {STANDARD_INPUT}:
        raise CannotGoOn("Standard input can be one of the two files, not both: name the other.")
    both = RunningAndDraft(read_file(old), read_file(new))
    with derived_state(both.draft, scheduler) as state:
        found = compare_states(state, both)
    if as_json:
        print_json({"old": both.running.name, "new": both.draft.name, **to_builtins(found)})
    elif markdown:
        print_data(write_markdown(both.draft.name, found))
    else:
        _print(found)
    if found.differences:
        raise typer.Exit(UNEXPECTED)


def _print(found: Comparison) -> None:
    out.print(f"{sentence(found)}.", markup=False)
    for section in sections(found):
        out.print()
        out.print(section.title, style="bold", markup=False)
        for line in section.lines:
            out.print(f"  {'    ' * line.depth}{line.text}", markup=False)
