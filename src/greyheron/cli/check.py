"""`grey-heron check` and `prove`: test flows run, requirements proved."""

from pathlib import Path
from typing import Annotated

import typer
from msgspec import to_builtins

from greyheron.analysis.proof.answers import Answer
from greyheron.analysis.proof.policy import ProofReport
from greyheron.analysis.testing.book import TestMarks
from greyheron.analysis.testing.judge import Standing
from greyheron.cli.reading import (
    UNEXPECTED,
    AsJson,
    File,
    Force,
    out,
    print_json,
    read_file,
    require_free,
    write_file,
)
from greyheron.cli.scheduling import Scheduler, derived_state
from greyheron.compute.derived import DerivedState
from greyheron.compute.documents import RunningAndDraft
from greyheron.compute.questions.book import BookQuestion
from greyheron.compute.questions.policy import ProofsQuestion
from greyheron.core.walk.verdicts import Verdict
from greyheron.formats.junit import write_junit
from greyheron.model.changes import Change
from greyheron.model.document import Network, Requirement
from greyheron.model.notation.requirements import write_requirement
from greyheron.model.read import edited
from greyheron.model.values import State

MARKS = {
    Verdict.PASSES: "●",
    Verdict.BLOCKED: "▌",
    Verdict.UNREACHABLE: "○",
    Verdict.REFUSED: "□",
    Verdict.MIXED: "◐",
}


def check(
    file: File,
    as_json: AsJson = False,
    junit: Annotated[
        Path | None, typer.Option("--junit", help="Write a JUnit XML report to this file.")
    ] = None,
    force: Force = False,
    scheduler: Scheduler = None,
) -> None:
    """Run every test flow and prove every requirement. Exit status: 0 all as expected, 1 not, 2 bad file."""
    require_free(junit, force)
    network = read_file(file)
    with derived_state(network, scheduler) as state:
        marks = state.ask(BookQuestion(), RunningAndDraft.same(network))
        proofs = _proofs(state, network, State.DRAFT)
    if junit is not None:
        write_file(junit, write_junit(network, marks, proofs))
    if as_json:
        tests = [
            {
                "id": mark.id,
                "flow": mark.flow,
                "baseline": to_builtins(mark.baseline),
                "verdict": to_builtins(mark.draft),
            }
            for mark in marks
        ]
        answers = [_proof_data(requirement, answer) for requirement, answer in proofs]
        data = {"network": network.name, "tests": tests, "requirements": answers}
        print_json(data)
    else:
        _print_marks(network, marks)
        for requirement, answer in proofs:
            _print_proof(write_requirement(requirement.statement), answer)
    violated = any(answer.answer is not Answer.PROVED for _, answer in proofs)
    if violated or any(mark.surprises for mark in marks):
        raise typer.Exit(UNEXPECTED)


def _proofs(derived: DerivedState, network: Network, state: State) -> list[tuple[Requirement, ProofReport]]:
    found = derived.ask(ProofsQuestion(state=state), RunningAndDraft.same(network))
    return [(requirement, found[requirement.id]) for requirement in network.requirements]


def _proof_data(requirement: Requirement, answer: ProofReport) -> dict[str, object]:
    return {
        "id": requirement.id,
        "statement": write_requirement(requirement.statement),
        **to_builtins(answer),
    }


def prove(
    file: File,
    statements: Annotated[
        list[str] | None, typer.Argument(help="Requirements to prove instead of those in the file.")
    ] = None,
    baseline: Annotated[bool, typer.Option("--baseline", help="Ignore all lists.")] = False,
    as_json: AsJson = False,
    scheduler: Scheduler = None,
) -> None:
    """Prove requirements. Exit status: 0 all proved, 1 not, 2 bad file or requirement."""
    network = read_file(file)
    if statements:
        items = [{"id": f"r{number}", "statement": text} for number, text in enumerate(statements, 1)]
        changes = [Change(collection="requirements", key=item["id"], item=item) for item in items]
        network = edited(network.model_copy(update={"requirements": ()}), changes)
    with derived_state(network, scheduler) as state:
        found = _proofs(state, network, State.BASELINE if baseline else State.DRAFT)
    if as_json:
        answers = [_proof_data(each, answer) for each, answer in found]
        print_json({"network": network.name, "requirements": answers})
    else:
        for each, answer in found:
            _print_proof(write_requirement(each.statement), answer)
        proved = sum(answer.answer is Answer.PROVED for _, answer in found)
        out.print(f"\n{len(found)} requirements, {proved} proved.")
    if any(answer.answer is not Answer.PROVED for _, answer in found):
        raise typer.Exit(UNEXPECTED)


def _print_proof(statement: str, answer: ProofReport) -> None:
    sign = {Answer.PROVED: "✓", Answer.VIOLATED: "✗"}.get(answer.answer, "?")
    sign = "◇" if answer.answer is Answer.PROVED and answer.remains else sign
    colour = {Answer.PROVED: "green", Answer.VIOLATED: "red"}.get(answer.answer, "yellow")
    out.print(f"[{colour}]{sign} {answer.answer:<12}[/] {statement}")
    out.print(f"      {answer.text}", markup=False)
    for title, boxes in (("", answer.boxes), ("themselves: ", answer.remaining)):
        for box in boxes:
            sides = " → ".join(", ".join(side) for side in (box.sources, box.destinations))
            when = f", {box.when}" if box.when else ""
            services = "; ".join(box.services)
            out.print(f"      {title}{sides}: {services} ({box.family}{when})", markup=False)
    out.print(f"      {answer.covered}", markup=False)


def _print_marks(network: Network, marks: tuple[TestMarks, ...]) -> None:
    group = None
    for test, mark in zip(network.tests, marks, strict=True):
        if test.group != group:
            group = test.group
            out.print(f"\n[bold]{group or 'No group'}[/]")
        verdict = mark.draft.verdict
        standing = mark.draft.judgement.standing if mark.draft.judgement else Standing.INCONCLUSIVE
        colour = {Standing.HOLDS: "green", Standing.FAILS: "red"}.get(standing, "yellow")
        sign = MARKS[verdict] if verdict else "?"
        out.print(f"  [{colour}]{sign} {standing:<12}[/] {mark.flow}")
        if mark.surprises:
            reason = mark.draft.judgement.reason if mark.draft.judgement else ""
            out.print(f"      {mark.draft.text}. {reason}".rstrip(), markup=False)
    surprises = sum(mark.surprises for mark in marks)
    out.print(f"\n{len(marks)} test flows, {len(marks) - surprises} as expected, {surprises} not.")
