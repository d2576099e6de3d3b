"""`grey-heron`: serve the workbench; trace, check, format and generate files."""

import json
from dataclasses import asdict, replace
from itertools import takewhile
from pathlib import Path
from typing import Annotated

import typer
from rich.console import Console

from greyheron.analysis.advice import Advisor, wanted
from greyheron.analysis.book import States, TestMarks, Tries, mark_tests
from greyheron.analysis.findings.coverage import IdleEntries
from greyheron.analysis.findings.finder import find_all, noted
from greyheron.analysis.findings.finding import Ground, Severity
from greyheron.analysis.judge import Standing
from greyheron.analysis.policy import ProofReport, proof_report
from greyheron.analysis.proof.answers import Answer
from greyheron.analysis.proof.proving import Prover, engines
from greyheron.analysis.report import LegReport, TraceReport, report
from greyheron.cli.serving import serve
from greyheron.core.conversation import FlowError, Verdict, converse
from greyheron.core.world import build_world
from greyheron.demo.generator import Plan
from greyheron.demo.generator import generate as generated
from greyheron.formats.junit import write_junit
from greyheron.formats.listing import is_listing, read_listing, write_listing
from greyheron.formats.workspace import read_workspace, write_workspace
from greyheron.model.changes import Change
from greyheron.model.document import AccessList, Network, Requirement, to_data
from greyheron.model.notation.flows import read_bare_flow, write_flow
from greyheron.model.notation.line import NotationError
from greyheron.model.notation.lists import renumbered
from greyheron.model.notation.requirements import write_requirement
from greyheron.model.problems import DocumentError
from greyheron.model.read import edited

BAD_FILE = 2
UNEXPECTED = 1
MARKS = {
    Verdict.PASSES: "●",
    Verdict.BLOCKED: "▌",
    Verdict.UNREACHABLE: "○",
    Verdict.REFUSED: "□",
    Verdict.MIXED: "◐",
}

app = typer.Typer(no_args_is_help=True, add_completion=False, help="Access lists in the right place, proved.")
app.command()(serve)
out = Console(highlight=False, soft_wrap=True)
errors = Console(stderr=True, highlight=False, soft_wrap=True)

File = Annotated[Path, typer.Argument(help="A workspace file.")]
AsJson = Annotated[bool, typer.Option("--json", help="Print JSON as docs/api.md describes it.")]


@app.command()
def trace(
    file: File,
    source: Annotated[str, typer.Option("--from", help="DEVICE, DEVICE:interface or DEVICE:address.")],
    destination: Annotated[str, typer.Option("--to", help="DEVICE, DEVICE:interface or an address.")],
    service: Annotated[str, typer.Option(help="tcp/23, udp/53, ping, or a service by name.")],
    source_port: Annotated[int | None, typer.Option(min=0, max=65535, help="49152 unless given.")] = None,
    baseline: Annotated[bool, typer.Option("--baseline", help="Ignore every list.")] = False,
    as_json: AsJson = False,
) -> None:
    """Trace one flow hop by hop, both ways."""
    network = _read(file)
    port = "" if source_port is None else f" source-port {source_port}"
    try:
        flow = read_bare_flow(f"{source} → {destination} {service}{port}")
        world = build_world(network)
        result = converse(world.baseline if baseline else world, flow)
    except (NotationError, FlowError) as error:
        errors.print(f"The flow cannot be traced: {error}", markup=False)
        raise typer.Exit(BAD_FILE) from None
    found = report(result, world.segments, write_flow(flow), "baseline" if baseline else "draft")
    if as_json:
        print(json.dumps(asdict(found), ensure_ascii=False, indent=2))
    else:
        _print_trace(found)


@app.command()
def check(
    file: File,
    as_json: AsJson = False,
    junit: Annotated[Path | None, typer.Option("--junit", help="Write a JUnit XML report there.")] = None,
) -> None:
    """Run every test flow, prove every requirement. Exit status: 0 all as expected, 1 not, 2 a bad file."""
    network = _read(file)
    world = build_world(network)
    marks = mark_tests(network.tests, States.of(world), Tries())
    prover = Prover(engines())
    proofs = [
        (requirement, proof_report(prover.prove(requirement.statement, world, network).proof))
        for requirement in network.requirements
    ]
    if junit is not None:
        junit.write_text(write_junit(network, marks, proofs), encoding="utf-8")
    if as_json:
        tests = [
            {
                "id": mark.id,
                "flow": mark.flow,
                "baseline": asdict(mark.baseline),
                "verdict": asdict(mark.draft),
            }
            for mark in marks
        ]
        answers = [_proof_data(requirement, answer) for requirement, answer in proofs]
        data = {"network": network.name, "tests": tests, "requirements": answers}
        print(json.dumps(data, ensure_ascii=False, indent=2))
    else:
        _print_marks(network, marks)
        for requirement, answer in proofs:
            _print_proof(write_requirement(requirement.statement), answer)
    violated = any(answer.answer is not Answer.PROVED for _, answer in proofs)
    if violated or any(mark.surprises for mark in marks):
        raise typer.Exit(UNEXPECTED)


def _proof_data(requirement: Requirement, answer: ProofReport) -> dict[str, object]:
    return {"id": requirement.id, "statement": write_requirement(requirement.statement), **asdict(answer)}


@app.command()
def advise(
    file: File,
    asked: Annotated[str, typer.Argument(help="A requirement, or a test flow with pass or block.")],
    as_json: AsJson = False,
) -> None:
    """Say where lists would make it hold. Exit status: 0 there is a way, or it holds; 1 not; 2 a bad file."""
    network = _read(file)
    try:
        statement = wanted(asked, network)
    except (NotationError, DocumentError) as error:
        errors.print(str(error), markup=False)
        raise typer.Exit(BAD_FILE) from None
    world, shared = build_world(network), engines()
    found = Advisor(Prover(shared), shared, world, network).advise(statement)
    if as_json:
        choices = [
            {**asdict(replace(each, changes=())), "changes": [to_data(change) for change in each.changes]}
            for each in found.choices
        ]
        print(json.dumps({"text": found.text, "choices": choices}, ensure_ascii=False, indent=2))
    else:
        out.print(found.text, markup=False)
        for choice in found.choices:
            out.print(f"\n{'✓' if choice.holds else '·'} {choice.text}", markup=False)
            out.print(
                f"    {choice.kind} list {choice.list}{'' if choice.new else ' (grows)'}:", markup=False
            )
            for line in "\n".join(choice.entries).splitlines():
                out.print(f"      {line}", markup=False)
    if found.choices and not any(choice.holds for choice in found.choices):
        raise typer.Exit(UNEXPECTED)


@app.command()
def findings(
    file: File,
    least: Annotated[Severity, typer.Option("--least", help="Leave out what matters less.")] = Severity.NOTE,
    as_json: AsJson = False,
) -> None:
    """Say what is wrong or doubtful. Exit status: 0 nothing above a note, 1 something is, 2 a bad file."""
    network = _read(file)
    ground = Ground(network, build_world(network), engines(), IdleEntries())
    order = list(Severity)
    found = [
        each
        for each in noted(find_all(ground), network.accepted)
        if order.index(each.finding.severity) <= order.index(least)
    ]
    if as_json:
        data = [
            {
                **asdict(replace(each.finding, repair=None)),
                "key": each.finding.key,
                "digest": each.finding.digest,
                "repair": None if each.finding.repair is None else each.finding.repair.label,
                "accepted": each.accepted,
            }
            for each in found
        ]
        print(json.dumps({"network": network.name, "findings": data}, ensure_ascii=False, indent=2))
    else:
        for each in found:
            accepted = f" (accepted: {each.accepted})" if each.accepted else ""
            out.print(f"{each.finding.severity:<8} {each.finding.text}{accepted}", markup=False)
            for line in each.finding.evidence:
                out.print(f"           {line}", markup=False)
    if any(each.accepted is None and each.finding.severity is not Severity.NOTE for each in found):
        raise typer.Exit(UNEXPECTED)


@app.command()
def prove(
    file: File,
    statements: Annotated[
        list[str] | None, typer.Argument(help="Requirements to prove; those of the file unless given.")
    ] = None,
    baseline: Annotated[bool, typer.Option("--baseline", help="Ignore every list.")] = False,
    as_json: AsJson = False,
) -> None:
    """Prove requirements. Exit status: 0 all proved, 1 not, 2 a bad file or requirement."""
    network = _read(file)
    if statements:
        items = [{"id": f"r{number}", "statement": text} for number, text in enumerate(statements, 1)]
        changes = [Change(collection="requirements", key=item["id"], item=item) for item in items]
        try:
            network = edited(network.model_copy(update={"requirements": ()}), changes)
        except DocumentError as error:
            for problem in error.problems:
                errors.print(str(problem), markup=False)
            raise typer.Exit(BAD_FILE) from None
    world = build_world(network)
    prover = Prover(engines())
    found = [
        (
            requirement,
            proof_report(
                prover.prove(requirement.statement, world.baseline if baseline else world, network).proof
            ),
        )
        for requirement in network.requirements
    ]
    if as_json:
        answers = [_proof_data(each, answer) for each, answer in found]
        print(json.dumps({"network": network.name, "requirements": answers}, ensure_ascii=False, indent=2))
    else:
        for each, answer in found:
            _print_proof(write_requirement(each.statement), answer)
        proved = sum(answer.answer is Answer.PROVED for _, answer in found)
        out.print(f"\n{len(found)} requirements, {proved} proved.")
    if any(answer.answer is not Answer.PROVED for _, answer in found):
        raise typer.Exit(UNEXPECTED)


def _print_proof(statement: str, answer: ProofReport) -> None:
    sign = {Answer.PROVED: "✓", Answer.VIOLATED: "✗"}.get(answer.answer, "?")
    colour = {Answer.PROVED: "green", Answer.VIOLATED: "red"}.get(answer.answer, "yellow")
    out.print(f"[{colour}]{sign} {answer.answer:<12}[/] {statement}")
    if answer.answer is not Answer.PROVED:
        out.print(f"      {answer.text}", markup=False)
    for box in answer.boxes:
        sides = " → ".join(", ".join(side) for side in (box.sources, box.destinations))
        out.print(f"      {sides}: {'; '.join(box.services)} ({box.family})", markup=False)
    out.print(f"      {answer.covered}", markup=False)


@app.command("format")
def format_file(
    file: Annotated[Path, typer.Argument(help="A workspace file, or a file of lists in the notation.")],
    write: Annotated[bool, typer.Option("--write", help="Write it back instead of printing it.")] = False,
    check_only: Annotated[bool, typer.Option("--check", help="Only say whether it is formatted.")] = False,
    renumber: Annotated[bool, typer.Option("--renumber", help="Number entries in even steps.")] = False,
) -> None:
    """Put a file into its one usual form. Exit status: 0 done, 1 not formatted (--check), 2 a bad file.

    Of a workspace file's own comments those at its head are kept; remarks and notes in lists are kept all.
    """
    try:
        before = file.read_bytes().decode("utf-8-sig")
        after = _formatted(file, before, renumber)
    except OSError as error:
        errors.print(f"{file} cannot be read: {error.strerror}", markup=False)
        raise typer.Exit(BAD_FILE) from None
    except UnicodeDecodeError as error:
        errors.print(f"{file} is no UTF-8 text: byte {error.start + 1}", markup=False)
        raise typer.Exit(BAD_FILE) from None
    except NotationError as error:
        for misreading in error.misreadings:
            errors.print(f"{file}: {misreading}", markup=False)
        raise typer.Exit(BAD_FILE) from None
    if check_only and before != after:
        errors.print(f"{file} is not formatted: `grey-heron format --write {file}` does it", markup=False)
        raise typer.Exit(UNEXPECTED)
    if write and before != after:
        file.write_text(after, encoding="utf-8")
    elif not (write or check_only):
        print(after, end="")


def _formatted(file: Path, text: str, renumber: bool) -> str:
    """`text` as we would write it. Raises NotationError; a bad workspace ends the command."""

    def even(access_list: AccessList) -> AccessList:
        return (
            access_list.model_copy(update={"body": renumbered(access_list.body)}) if renumber else access_list
        )

    if is_listing(text):
        return write_listing(tuple(map(even, read_listing(text))))
    network = _network_in(file, text)
    head = takewhile(lambda line: line.startswith("#"), text.splitlines(keepends=True))
    return "".join(head) + write_workspace(
        network.model_copy(update={"lists": tuple(map(even, network.lists))})
    )


@app.command()
def generate(
    routers: Annotated[int, typer.Option(help="How many routers.")] = 50,
    lists: Annotated[int, typer.Option(help="How many lists.")] = 20,
    entries: Annotated[int, typer.Option(help="Entries in each list.")] = 200,
    seed: Annotated[int, typer.Option(help="The same seed gives the same network.")] = 0,
    meshed: Annotated[bool, typer.Option("--meshed", help="More links in the core.")] = False,
) -> None:
    """Print the workspace file of a large invented network."""
    try:
        network = generated(Plan(routers, lists, entries, seed, meshed))
    except DocumentError as error:
        errors.print(str(error), markup=False)
        raise typer.Exit(BAD_FILE) from None
    print(write_workspace(network), end="")


def _read(file: Path) -> Network:
    try:
        return _network_in(file, file.read_bytes())
    except OSError as error:
        errors.print(f"{file} cannot be read: {error.strerror}", markup=False)
    raise typer.Exit(BAD_FILE)


def _network_in(file: Path, content: str | bytes) -> Network:
    """The network in what `file` holds; a bad one ends the command with every problem in it."""
    try:
        return read_workspace(content)
    except DocumentError as error:
        for problem in error.problems:
            errors.print(f"{file}: {problem}", markup=False)
    raise typer.Exit(BAD_FILE)


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


def _print_trace(found: TraceReport) -> None:
    out.print(f"[bold]{found.flow}[/]")
    for number, exchange in enumerate(found.exchanges, 1):
        if len(found.exchanges) > 1:
            out.print(f"\n[bold]Path {number} of {len(found.exchanges)}[/]")
        _print_leg("way out", exchange.out)
        if exchange.home is not None:
            _print_leg("way home", exchange.home)
        out.print(f"\nthe sender sees {exchange.sees.text}", markup=False)
    if found.more_paths:
        out.print("there are more combinations of equal-cost paths than these")
    out.print(f"[bold]{found.text}[/]")


def _print_leg(way: str, leg: LegReport) -> None:
    out.print(f"\n[bold]{way}[/], {leg.name}")
    for hop in leg.hops:
        out.print(f"  {hop.device}", markup=False)
        for step in hop.steps:
            sign = "▌" if step.deciding else " "
            out.print(f"   {sign} {step.text}", markup=False, style="bold" if step.deciding else "")
