"""Requirements for small networks wanted all at once, and every set of places tried by hand."""

from collections.abc import Iterator, Sequence
from itertools import combinations
from random import Random

from msgspec import Struct

from greyheron.analysis.advice.plans import AllHolding
from greyheron.compute.derived import DerivedState
from greyheron.compute.documents import RunningAndDraft
from greyheron.compute.questions.all_holding import AllHoldingQuestion
from greyheron.core.walk.conversation import converse
from greyheron.core.walk.verdicts import Verdict
from greyheron.core.world import World, build_world
from greyheron.model.document import Network, Placement
from greyheron.model.notation.flows import read_bare_flow
from greyheron.model.read import edited, read_network
from greyheron.model.values import Direction

MOST_TRIED = 3
"""Sets of so many places are tried by hand, where no plan is given."""
SERVICES = ("tcp/80", "tcp/443", "udp/53")


class Wish(Struct, frozen=True):
    """A requirement between hosts: by their numbers; a sender of a whole segment where `segment`."""

    kind: str
    source: int
    goal: int
    service: str
    segment: bool = False

    @property
    def text(self) -> str:
        source = f"segment:r{self.source}:e0" if self.segment else f"h{self.source}"
        return f"{self.kind} {source} → h{self.goal} {self.service} ipv4"


class Small(Struct, frozen=True):
    """Routers with a host each, joined at random; and what is wanted of them."""

    routers: int
    joined: tuple[tuple[int, int], ...]
    wishes: tuple[Wish, ...]
    listed: bool

    def network(self) -> Network:
        ports: dict[int, list[tuple[str, str]]] = {number: [] for number in range(self.routers)}
        links = []
        for number, (one, other) in enumerate(self.joined):
            ends = []
            for side, router in enumerate((one, other)):
                name = f"w{len(ports[router])}"
                ports[router].append((name, f"172.21.{number}.{1 + side}/30"))
                ends.append(f"r{router}:{name}")
            links.append({"ends": ends})
        devices: list[dict[str, object]] = []
        for number in range(self.routers):
            own = [("e0", f"172.20.{number}.1/29"), *ports[number]]
            interfaces = [
                {"name": name, "addresses": [address], "ospf": {"cost": 10}} for name, address in own
            ]
            devices.append({"name": f"r{number}", "kind": "router", "interfaces": interfaces})
            devices.append(
                {
                    "name": f"h{number}",
                    "kind": "host",
                    "interfaces": [{"name": "eth0", "addresses": [f"172.20.{number}.2/29"]}],
                    "gateway": f"172.20.{number}.1",
                    "services": [
                        {"name": "web", "protocol": "tcp", "port": 80},
                        {"name": "safe", "protocol": "tcp", "port": 443},
                        {"name": "names", "protocol": "udp", "port": 53},
                    ],
                }
            )
            links.append({"ends": [f"r{number}:e0", f"h{number}:eth0"]})
        lists = [
            {
                "name": "old",
                "family": "ipv4",
                "kind": "extended",
                "entries": "10 deny udp from any to 172.20.0.0/29 port 53\n20 permit any from any to any\n",
            }
        ]
        placements = [{"list": "old", "device": "r0", "at": "e0", "direction": "out"}]
        return read_network(
            {
                "format": "grey-heron/1",
                "name": "small",
                "devices": devices,
                "links": links,
                "lists": lists if self.listed else [],
                "placements": placements if self.listed else [],
                "requirements": [
                    {"id": f"q{number}", "statement": wish.text} for number, wish in enumerate(self.wishes)
                ],
            }
        )


def small(seed: int) -> Small:
    chance = Random(f"together {seed}")
    routers = chance.randrange(2, 7)
    joined = [(chance.randrange(number), number) for number in range(1, routers)]
    extra = [(one, other) for one in range(routers) for other in range(one) if (other, one) not in joined]
    joined += chance.sample([(b, a) for a, b in extra], min(len(extra), chance.choice((0, 0, 1, 2))))
    wishes: dict[Wish, None] = {}
    for _ in range(chance.randrange(1, 5)):
        source, goal = chance.sample(range(routers), 2)
        kind = chance.choice(("block", "block", "block", "allow", "only"))
        service = chance.choice(SERVICES)
        wishes[Wish(kind, source, goal, service, kind == "block" and chance.random() < 0.4)] = None
    return Small(routers, tuple(joined), tuple(wishes), chance.random() < 0.5)


def asked(network: Network) -> AllHolding:
    return DerivedState().ask(AllHoldingQuestion(), RunningAndDraft.same(network))


def holds(given: Small, world: World, wishes: Sequence[Wish]) -> bool:
    """Whether conversations of hosts, drawn and possible ones, do what is wanted."""
    for wish in wishes:
        strangers = [f"172.20.{number}.5/29" for number in range(given.routers)]
        own = [f"h{wish.source}", strangers[wish.source]] if wish.segment else [f"h{wish.source}"]
        everyone = [*(f"h{number}" for number in range(given.routers)), *strangers]
        others = [each for each in everyone if each not in (*own, f"h{wish.goal}")]
        pass_, block = {
            "allow": (own, []),
            "block": ([], own),
            "only": (own, others),
        }[wish.kind]
        for senders, wanted in ((pass_, True), (block, False)):
            for sender in senders:
                flow = read_bare_flow(f"{sender} → h{wish.goal} {wish.service}")
                exchanges = converse(world, flow).exchanges
                if wanted and any(each.verdict is not Verdict.PASSES for each in exchanges):
                    return False
                if not wanted and any(each.reached for each in exchanges):
                    return False
    return True


def unlike(given: Small) -> Iterator[str]:
    """What is answered otherwise than trying every set of places by hand shows."""
    network = given.network()
    found = asked(network)
    places = [
        (device.name, port.name, way)
        for device in network.devices
        if device.name.startswith("r")
        for port in device.interfaces
        for way in ("in", "out")
    ]
    known = build_world(network)
    if found.plans:
        for plan in found.plans:
            after = edited(network, list(plan.changes))
            if not holds(given, build_world(after), given.wishes):
                yield f"a plan of {plan.places} places does not do what is wanted"
        fewest = found.plans[0].places
        for count in range(fewest):
            for chosen in combinations(places, count):
                if tried(given, network, known, chosen, given.wishes):
                    yield f"{count} places are enough, {fewest} are planned: {chosen}"
                    return
    elif found.at_odds:
        wishes = [wish for wish in given.wishes if wish.text in found.at_odds]
        if len(wishes) != len(found.at_odds):
            yield f"{found.at_odds} are not all wishes"
        for count in range(MOST_TRIED if len(places) < 20 else 2):
            for chosen in combinations(places, count):
                if tried(given, network, known, chosen, wishes):
                    yield f"{found.at_odds} can be had together: {chosen}"
                    return
    elif not holds(given, known, given.wishes):
        yield "it says that all hold already"


def tried(
    given: Small,
    network: Network,
    known: World,
    chosen: Sequence[tuple[str, str, str]],
    wishes: Sequence[Wish],
) -> bool:
    """Whether lists that say all of what is wanted, at these places and where one stands, make it hold."""
    permits: list[str] = []
    denies: list[str] = []
    for wish in wishes:
        protocol, port = wish.service.split("/")
        source = f"172.20.{wish.source}.{'0/29' if wish.segment else '2'}"
        goal = f"172.20.{wish.goal}.2"
        if wish.kind != "block":
            back = " established" if protocol == "tcp" else ""
            permits += [
                f"permit {protocol} from {source} to {goal} port {port}",
                f"permit {protocol} from {goal} port {port} to {source}{back}",
            ]
        if wish.kind != "allow":
            sender = "any" if wish.kind == "only" else source
            denies.append(f"deny {protocol} from {sender} to {goal} port {port}")
    mine = "\n".join([*permits, *denies])
    old = "deny udp from any to 172.20.0.0/29 port 53\npermit any from any to any"
    named = {"new": "permit any from any to any", "old": old}
    lists = [
        {"name": name, "family": "ipv4", "kind": "extended", "entries": f"{mine}\n{rest}"}
        for name, rest in named.items()
    ]
    read = read_network({"format": "grey-heron/1", "name": "lists", "devices": [], "lists": lists})
    stands = [(each.device, each.at, each.direction) for each in network.placements]
    placed = [
        Placement(list="new", device=device, at=at, direction=Direction(way))
        for device, at, way in chosen
        if (device, at, way) not in stands
    ]
    update = {"lists": read.lists, "placements": (*network.placements, *placed)}
    return holds(given, build_world(network.model_copy(update=update), known), wishes)
