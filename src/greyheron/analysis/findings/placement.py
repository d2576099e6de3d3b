"""Findings in where lists are placed."""

from collections.abc import Iterator, Mapping

from greyheron.analysis.findings.descriptions import in_names
from greyheron.analysis.findings.finding import Finding, Repair, SearchGround, Severity, moving, shortened
from greyheron.analysis.findings.fragments import holes_for_fragments
from greyheron.analysis.findings.other_side import naming_the_other_side
from greyheron.analysis.findings.shared_path import keeping_from_more
from greyheron.analysis.findings.wrong_direction import facing_away
from greyheron.analysis.network.passing import known_passers
from greyheron.core.walk.delivery import lines_for
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.changes import putting
from greyheron.model.device import Device
from greyheron.model.document import Placement
from greyheron.model.names import PORTS, TCP
from greyheron.model.values import Action, Direction, Family, LineKind, ListKind


def in_placements(ground: SearchGround) -> Iterator[Finding]:
    yield from _on_console(ground)
    yield from _on_some_lines(ground)
    yield from _near_the_source(ground)
    network = ground.network
    for family in {family: None for _, family in ground.world.lists}:
        everyone, passers = known_passers(ground.kept, ground.engines, ground.world, network, family)
        yield from facing_away(ground, family, everyone, passers)
        yield from naming_the_other_side(ground, family, everyone, passers)
        yield from keeping_from_more(ground, family, everyone, passers)
    yield from in_names(network)
    yield from holes_for_fragments(ground)


def _on_console(ground: SearchGround) -> Iterator[Finding]:
    devices = {device.name: device for device in ground.network.devices}
    families = {access_list.name: access_list.family for access_list in ground.network.lists}
    for placed in ground.network.placements:
        device = devices[placed.device]
        if placed.at != LineKind.CONSOLE or not any(line.name == LineKind.CONSOLE for line in device.lines):
            continue
        remote = [line.at for line in device.lines if line.name == LineKind.REMOTE]
        taken = {
            families[placement.list]
            for placement in ground.network.placements
            if placement.device == placed.device and placement.at in remote
        }
        repair = None
        if remote and families[placed.list] not in taken:
            repair = Repair(
                f"move {placed.list} to the {remote[0]} line",
                moving(placed, AttachmentPoint(placed.device, remote[0], Direction.IN)),
            )
        yield Finding(
            "list on the console line",
            Severity.FAULT if repair else Severity.WARNING,
            f"{placed.list} at {placed.device}",
            f"{placed.list} is on {placed.device}’s console line, which no network login uses"
            + (": its remote line has no list." if repair else "."),
            devices=(placed.device,),
            lists=(placed.list,),
            repair=repair,
        )


def _on_some_lines(ground: SearchGround) -> Iterator[Finding]:
    """A list that some logins meet and others do not: whichever line is free takes them."""
    families = {access_list.name: access_list.family for access_list in ground.network.lists}
    for device in ground.network.devices:
        for transport in dict.fromkeys(word for line in device.lines for word in line.transports):
            lines = [line.at for line in lines_for(device, TCP, PORTS[transport])]
            if len(lines) < 2:
                continue
            here = [each for each in ground.network.placements if each.device == device.name]
            for family in Family:
                placed = {
                    each.at: each for each in here if families[each.list] is family and each.at in lines
                }
                if placed and len(placed) < len(lines):
                    yield _left_open(device, transport, family, lines, placed)


def _left_open(
    device: Device, transport: str, family: Family, lines: list[str], placed: Mapping[str, Placement]
) -> Finding:
    """placed:  what stands at some of the lines"""
    like = next(iter(placed.values()))
    bare = [at for at in lines if at not in placed]
    more = tuple(putting("placements", like.model_copy(update={"at": at})) for at in bare)
    return Finding(
        "list on some of the lines",
        Severity.WARNING,
        f"{like.list} at {device.name} {transport} {family}",
        f"A login to {device.name} by {transport} is taken by the first line that is free of "
        f"{', '.join(lines)}. {like.list} stands at {', '.join(placed)}, and no {family.word} list at "
        f"{', '.join(bare)}.",
        devices=(device.name,),
        lists=(like.list,),
        repair=Repair(f"place {like.list} at {', '.join(bare)} too", more),
    )


def _near_the_source(ground: SearchGround) -> Iterator[Finding]:
    """A standard list where those whom it denies come in: it keeps them from everything."""
    for (point, family), found in ground.world.lists.items():
        device = ground.world.topology.devices[point.device]
        router = device.traits.forwards
        port = (point.device, point.at)
        if found.kind is not ListKind.STANDARD or not router or point.direction is not Direction.IN:
            continue
        if port not in ground.world.topology.segments.of:
            continue
        prefixes = [each.prefix for each in ground.world.topology.held(port, family)]
        denied = [
            rule.entry.number
            for rule in found.rules
            if rule.entry.action is Action.DENY
            and rule.sources is not None
            and any(prefix.holds(block.value) for prefix in prefixes for block in rule.sources)
        ]
        if denied:
            yield Finding(
                "standard list near the source",
                Severity.WARNING,
                f"{found.name} at {point.device} {point.at}",
                f"{found.name} looks at sources only and stands where they come in, {point}: "
                f"whom it denies there, it keeps from everything.",
                (f"entries {shortened(map(str, denied))} deny addresses of that very segment",),
                (point.device,),
                (found.name,),
            )
