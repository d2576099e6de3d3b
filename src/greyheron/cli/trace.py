"""`grey-heron trace`: one flow hop by hop."""

from typing import Annotated

import typer
from msgspec import to_builtins

from greyheron.analysis.presentation.remembered import kept_words
from greyheron.analysis.presentation.report import PacketReport, TraceReport, report_in_time
from greyheron.cli.reading import AsJson, File, out, print_json, read_file
from greyheron.core.bulk.trying import try_flow
from greyheron.core.timeline import Timeline
from greyheron.model.notation.flows import read_bare_flow, write_flow
from greyheron.model.values import State


def trace(
    file: File,
    source: Annotated[str, typer.Option("--from", help="DEVICE, DEVICE:interface or DEVICE:address.")],
    destination: Annotated[str, typer.Option("--to", help="DEVICE, DEVICE:interface or an address.")],
    service: Annotated[str, typer.Option(help="tcp/23, udp/53, ping, or a service name.")],
    source_port: Annotated[int | None, typer.Option(min=0, max=65535, help="Default: 49152.")] = None,
    at: Annotated[str, typer.Option(help="When: “tue 14:00”, or a date and time.")] = "",
    baseline: Annotated[bool, typer.Option("--baseline", help="Ignore all lists.")] = False,
    as_json: AsJson = False,
) -> None:
    """Trace one flow hop by hop, in both directions."""
    network = read_file(file)
    port = "" if source_port is None else f" source-port {source_port}"
    flow = read_bare_flow(f"{source} → {destination} {service}{port}{f' at {at}' if at else ''}")
    timeline = Timeline.build(network)
    results = [
        (span, try_flow(world.baseline if baseline else world, flow))
        for span in timeline.for_flow(flow)
        for world in (timeline.world(span),)
    ]
    topology = timeline.first.topology
    found = report_in_time(results, topology, write_flow(flow), State.BASELINE if baseline else State.DRAFT)
    if as_json:
        print_json(to_builtins(found))
    else:
        _print_trace(found)


def _print_trace(found: TraceReport) -> None:
    out.print(f"[bold]{found.flow}[/]")
    for number, exchange in enumerate(found.exchanges, 1):
        if len(found.exchanges) > 1:
            out.print(f"\n[bold]Path {number} of {len(found.exchanges)}[/]")
        _print_leg("way out", exchange.out)
        if exchange.home is not None:
            _print_leg("way home", exchange.home)
        if exchange.kept:
            out.print("\n[bold]what devices remember[/]")
        for kept in exchange.kept:
            out.print(f"  {kept.device}: {kept_words(kept)}", markup=False)
        out.print(f"\nthe sender sees {exchange.sees.text}", markup=False)
    if found.more_paths:
        out.print("there are more combinations of equal-cost paths than these")
    out.print(f"[bold]{found.text}[/]")


def _print_leg(way: str, leg: PacketReport) -> None:
    out.print(f"\n[bold]{way}[/], {leg.name}")
    for hop in leg.hops:
        out.print(f"  {hop.device}", markup=False)
        for step in hop.steps:
            sign = "▌" if step.deciding else " "
            out.print(f"   {sign} {step.text}", markup=False, style="bold" if step.deciding else "")
