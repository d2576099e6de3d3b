"""What a device knows: its routes and their origins, its OSPF neighbours, and those that lists cut off."""

from dataclasses import dataclass

from greyheron.analysis.presentation.steps import decision_words, route_words
from greyheron.core.routing.table import Loss
from greyheron.core.world import World
from greyheron.model.values import Family


@dataclass(frozen=True, slots=True)
class DeviceFacts:
    """All in words, one a line.

    routes:  those in use;  unused:  the others, each with why
    neighbours:  OSPF ones;  cut:  routers that would be, and why not
    """

    routes: tuple[str, ...]
    unused: tuple[str, ...]
    neighbours: tuple[str, ...]
    cut: tuple[str, ...]


def facts_of(world: World, device: str) -> DeviceFacts:
    """The facts of `device`, which is in `world`."""
    if world.topology.devices[device].traits.bridges:
        return DeviceFacts((), (), (), ())
    used: list[str] = []
    unused: list[str] = []
    for family in Family:
        table = world.table(device, family)
        for route in sorted(table.routes, key=lambda each: (each.prefix.value, each.prefix.size)):
            words = route_words(route, family)
            if table.uses(route):
                used.append(words)
            else:
                unused.append(f"{words}: {table.unusable(route) or Loss.PREFERENCE}")
    neighbours = [
        f"{peer.neighbour} by {peer.interface}, {'v2' if family is Family.IPV4 else 'v3'}, cost {peer.cost}"
        for family in Family
        for peer in world.routes.neighbourhood(family).adjacent.get(device, ())
    ]
    cut = [
        f"{other[0]} is no neighbour: {pair.by.list_name} {pair.by.point} {decision_words(pair.by.decision)}"
        for pair in world.routes.cut_neighbours()
        for here, other in ((pair.port, pair.neighbour), (pair.neighbour, pair.port))
        if here[0] == device
    ]
    return DeviceFacts(tuple(used), tuple(unused), tuple(neighbours), tuple(cut))
