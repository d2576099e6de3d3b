"""What a device knows: its routes and their origins, its OSPF neighbours, and those that lists cut off."""

from dataclasses import dataclass

from greyheron.analysis.words.steps import decision_words, route_words
from greyheron.core.world import World
from greyheron.model.values import Family


@dataclass(frozen=True, slots=True)
class DeviceFacts:
    """routes: in words, one a line; neighbours: OSPF ones; cut: routers that would be, and why not"""

    routes: tuple[str, ...]
    neighbours: tuple[str, ...]
    cut: tuple[str, ...]


def facts_of(world: World, device: str) -> DeviceFacts:
    """The facts of `device`, which is in `world`."""
    if world.topology.devices[device].traits.bridges:
        return DeviceFacts((), (), ())
    routes = [
        route_words(route, family)
        for family in Family
        for route in sorted(
            world.table(device, family).routes, key=lambda route: (route.prefix.value, route.prefix.size)
        )
    ]
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
    return DeviceFacts(tuple(routes), tuple(neighbours), tuple(cut))
