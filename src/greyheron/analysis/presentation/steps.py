"""Steps, headers and endings in words: the same on the command line and on the screen."""

from typing import assert_never

from greyheron.core.lists.frames import Frame
from greyheron.core.lists.matching import Decision
from greyheron.core.lists.met import Filtered, Unfiltered
from greyheron.core.packet import Packet, Way
from greyheron.core.routing.table import KnownRoute, Lookup, Loss, NextHop, Origin
from greyheron.core.walk.dns import Unresolved
from greyheron.core.walk.icmp_errors import Seen, loop_of
from greyheron.core.walk.steps import (
    Delivered,
    DiscoveryStopped,
    Enters,
    Gathered,
    HopLimitReached,
    Leaves,
    LoopFound,
    NobodyAnswers,
    NoSession,
    NotForwarded,
    Outcome,
    Refused,
    Routed,
    Sends,
    SessionHistory,
    Step,
    Tracked,
    Translated,
    TranslatedAddressNeeded,
    Unrouted,
    ZonesDeny,
)
from greyheron.core.walk.verdicts import Exchange, Result, Verdict
from greyheron.model.entry import mac_text
from greyheron.model.header import DSCP
from greyheron.model.names import TCP, UDP, ether_type_name, icmp_name, port_name, protocol_name
from greyheron.model.values import Family


def step_words(step: Step, family: Family) -> str:
    """One step, without the device's name."""
    match step:
        case Sends(packet):
            return f"sends {service_words(packet)} to {family.text(packet.destination)}"
        case Enters(interface):
            return f"enters by {interface}"
        case Filtered(point, name, decision, None):
            return f"{name} {decision_words(decision)}" + (f" ({point.at} line)" if point.is_line else "")
        case Filtered(point, name, decision, frame):
            assert frame is not None
            return f"frame list {name} {point} {decision_words(decision)} ({frame_words(frame)})"
        case Unfiltered(point, own):
            if own:
                return "own packet, no outbound list"
            return f"no list on the {point.at} line" if point.is_line else "no list"
        case Tracked():
            return "belongs to a tracked session: no list is asked"
        case Gathered():
            return (
                "a fragment that is not the first: held until the rest is there; lists see the whole packet"
            )
        case NoSession(saw):
            return _no_session_words(saw)
        case Translated(before, after):
            return _translated_words(before, after)
        case TranslatedAddressNeeded():
            return "for the inside address of a translated host: the translated address must be used"
        case ZonesDeny(here, there):
            return f"zones deny: from {here or 'no zone'} to {there or 'no zone'}"
        case DiscoveryStopped(interface, _, address, by):
            asked = "" if by.frame is None else f" ({frame_words(by.frame)})"
            return (
                f"cannot find {family.text(address)} on {interface}: "
                f"{by.list_name} {by.point} {decision_words(by.decision)}{asked}"
            )
        case Routed(lookup, chosen):
            return f"route {_chosen_words(lookup, chosen, family)}"
        case Unrouted(lookup):
            return _unrouted_words(lookup, family)
        case NotForwarded():
            return "not its own address, and it forwards for nobody"
        case HopLimitReached():
            return "hop limit reached"
        case LoopFound():
            return "came through here before: a loop"
        case Leaves(interface, to, to_address):
            return f"leaves by {interface} to {to[0]}, {family.text(to_address)}"
        case NobodyAnswers(interface, address):
            return f"nobody on {interface} answers for {family.text(address)}"
        case Delivered(holder, service, line):
            reached = f"own address ({holder})" if holder else "one of its addresses"
            taker = f"{line} line" if line else service
            return f"{reached}, {taker}" if taker else reached
        case Refused(login):
            return "no line offers this login" if login else "nobody listens"
        case _:
            assert_never(step)


def _no_session_words(saw: SessionHistory) -> str:
    stopped = "no such session, and this packet cannot begin one"
    match saw:
        case SessionHistory.NOTHING:
            return f"{stopped}: those before it went another way (asymmetric routing)"
        case SessionHistory.ONE_WAY:
            return (
                "no such session: it saw the first packet but not the answer, which went another way "
                "(asymmetric routing)"
            )
        case SessionHistory.FRAGMENT:
            return (
                "a fragment that is not the first: it is held back until the first one comes, and none does"
            )
        case SessionHistory.OTHERWISE:
            return stopped
        case _:
            assert_never(saw)


def decision_words(decision: Decision) -> str:
    """“denies, entry 30”."""
    verb = "denies" if decision.denies else "permits"
    silently = " silently" if decision.silent and decision.denies else ""
    return f"{verb}{silently}, {entry_words(decision)}"


def frame_words(frame: Frame) -> str:
    """“ipv4 from 02:1a:00:00:4c:07 to ff:ff:ff:ff:ff:ff”."""
    return (
        f"{ether_type_name(frame.ether_type)} from {mac_text(frame.source)} to {mac_text(frame.destination)}"
    )


def entry_words(decision: Decision) -> str:
    if decision.entry is not None:
        return f"entry {decision.entry}"
    return "implicit deny" if decision.denies else "implicit permit of neighbour discovery"


def service_words(packet: Packet) -> str:
    """What the packet is: “tcp/443 SYN”, “icmp echo-request”."""
    if packet.protocol in (TCP, UDP):
        if packet.fragment:
            return f"{protocol_name(packet.protocol, packet.family)} fragment"
        flags = "+".join(packet.flags.names)
        port = packet.source_port if packet.reply else packet.destination_port
        return f"{protocol_name(packet.protocol, packet.family)}/{port} {flags}".rstrip()
    if packet.icmp_type is not None:
        name = icmp_name(packet.family, packet.icmp_type, packet.icmp_code) or icmp_name(
            packet.family, packet.icmp_type, None
        )
        return f"icmp {name or f'{packet.icmp_type}/{packet.icmp_code}'}"
    return f"protocol {protocol_name(packet.protocol, packet.family)}"


def header_words(packet: Packet) -> list[tuple[str, str]]:
    """The header, a field and its value a line."""
    family = packet.family
    lines = [
        ("source", "not chosen yet" if packet.source is None else family.text(packet.source)),
        ("destination", family.text(packet.destination)),
        ("protocol", f"{protocol_name(packet.protocol, family)} ({packet.protocol})"),
    ]
    for label, port in (("source port", packet.source_port), ("destination port", packet.destination_port)):
        if port is not None:
            name = port_name(port)
            lines.append((label, f"{port} {name}" if name else str(port)))
    if packet.protocol == TCP:
        lines.append(("flags", ", ".join(packet.flags.names)))
    if packet.icmp_type is not None:
        lines.append(("ICMP type/code", f"{packet.icmp_type}/{packet.icmp_code}"))
    if packet.fragment:
        lines.append(("fragment", "not the first"))
    if packet.dscp:
        lines.append(("DSCP", dscp_words(packet.dscp)))
    lines.append(("hop limit", str(packet.hop_limit)))
    return lines


def dscp_words(number: int) -> str:
    """“46 ef”."""
    name = next((name for name, code in DSCP.items() if code == number), "")
    return f"{number} {name}".rstrip()


def route_words(route: KnownRoute, family: Family) -> str:
    """One route: “172.20.40.0/24, static, by 172.20.0.6”."""
    way = "discards"
    if not route.discard:
        via = None if route.via is None else f"by {family.text(route.via)}"
        way = ", ".join(filter(None, (via, route.interface)))
    if route.origin is Origin.GATEWAY:
        return f"gateway, {way}"
    return f"{_prefix_words(route, family)}, {route.origin}, {way}"


def _translated_words(before: Packet, after: Packet) -> str:
    """“destination 198.51.100.10 becomes 172.20.40.10”."""
    family = before.family
    changed = []
    if before.source != after.source and before.source is not None and after.source is not None:
        changed.append(f"source {family.text(before.source)} becomes {family.text(after.source)}")
    if before.destination != after.destination:
        changed.append(
            f"destination {family.text(before.destination)} becomes {family.text(after.destination)}"
        )
    if before.source_port != after.source_port:
        changed.append(f"source port {before.source_port} becomes {after.source_port}")
    if before.destination_port != after.destination_port:
        changed.append(f"destination port {before.destination_port} becomes {after.destination_port}")
    return "translated: " + ", ".join(changed)


def _prefix_words(route: KnownRoute, family: Family) -> str:
    return "default" if route.prefix.size >> family.bits else str(route.prefix)


def lost_words(lookup: Lookup, family: Family) -> list[str]:
    return [f"{route_words(lost.route, family)}: {lost.why}" for lost in lookup.lost]


def ending_words(exchange: Exchange) -> str:
    """The verdict of one exchange and its cause, in one sentence."""
    leg = exchange.decider
    last = leg.path.last
    family = last.packet.family
    home = "on the way home, " if leg.way is Way.RETURN else ""
    device = last.device
    if exchange.verdict is Verdict.PASSES:
        return (
            "passes, and the reply gets home" if leg.way is Way.RETURN or len(exchange.legs) > 1 else "passes"
        )
    if leg.path.denial is not None:
        denial = leg.path.denial
        what = ""
        if leg.path.outcome is Outcome.NO_DISCOVERY:
            what = f"as {'ARP' if family is Family.IPV4 else 'neighbour discovery'} is stopped "
        elif denial.frame is not None:
            what = "with its frame "
        return f"blocked {home}{what}{denial.point}: {denial.list_name} {decision_words(denial.decision)}"
    if exchange.verdict is Verdict.BLOCKED:
        return f"blocked {home}in {device}: {step_words(last.steps[-1], family)}"
    if exchange.verdict is Verdict.REFUSED:
        return f"refused by {device}: {step_words(last.steps[-1], family)}"
    if leg.path.outcome is Outcome.LOOP:
        first = {hop.device: index for index, hop in reversed([*enumerate(leg.path.hops)])}
        circle = sorted(set(loop_of(leg.path)), key=lambda name: first[name])
        return f"unreachable: {home}it goes round in a loop through {joined(circle)}"
    return f"unreachable: {home}{device} stops: {step_words(last.steps[-1], family)}"


def joined(names: list[str]) -> str:
    """“a, b and c”."""
    return " and ".join(filter(None, (", ".join(names[:-1]), names[-1])))


def unresolved_words(result: Result) -> str | None:
    """Why a name was not resolved; None where it was, or there was none."""
    resolution = result.resolution
    if resolution is None or resolution.address is not None:
        return None
    last = resolution.queries[-1]
    asked = last.resolver.family.text(last.resolver.address)
    match resolution.why:
        case Unresolved.NO_SUCH_NAME:
            why = f"{asked} knows no such name"
        case Unresolved.NOT_IN_FAMILY:
            why = f"{asked} has no {resolution.family.word} address for it"
        case _:
            first = resolution.queries[0]
            failing = next(
                (each for each in first.result.exchanges if each.verdict is not Verdict.PASSES),
                first.result.exchanges[0],
            )
            to = first.resolver.family.text(first.resolver.address)
            why = f"the query to {to} is {ending_words(failing)}"
    return f"{result.verdict}: the name {resolution.name} was not resolved, because {why}"


def unwalked_words(result: Result) -> str:
    """What is said of equal paths beyond those that were walked."""
    found = result.unwalked
    if found is None:
        return "there are more equal paths, and what becomes of it there is not known"
    if {each.verdict for each in result.exchanges} == {result.verdict}:
        return "so do all others of very many equal paths"
    if found.point is None:
        return f"on others of very many equal paths it ends at {found.device}"
    point, entry = found.point, "its end" if found.entry is None else f"entry {found.entry}"
    return (
        f"on others of very many equal paths list {found.list_name} denies it, {point.device} {point.at} "
        f"{point.direction.value}, by {entry}"
    )


def seen_words(exchange: Exchange) -> str:
    """What the sender sees, and from whom."""
    family = exchange.legs[0].path.packet.family
    if exchange.sees is Seen.NOTHING:
        if exchange.verdict is Verdict.PASSES:
            return "nothing: this protocol expects no reply"
        return "nothing: a timeout"
    if exchange.seen_from is None:
        return f"{exchange.sees}, said by itself"
    return f"{exchange.sees} from {family.text(exchange.seen_from)}"


def _chosen_words(lookup: Lookup, chosen: NextHop, family: Family) -> str:
    if not lookup.routes:
        return f"to a neighbour, out of {chosen.interface}"
    route = lookup.routes[0]
    name = (
        "by its gateway"
        if route.origin is Origin.GATEWAY
        else f"{_prefix_words(route, family)}, {route.origin}"
    )
    equal = f", one of {len(lookup.hops)} equal ways" if len(lookup.hops) > 1 else ""
    return f"{name}, out of {chosen.interface}{equal}"


def _unrouted_words(lookup: Lookup, family: Family) -> str:
    if lookup.routes:
        return f"discarded by route {route_words(lookup.routes[0], family)}"
    for lost in lookup.lost:
        if lost.why in (Loss.UNRESOLVED, Loss.DOWN):
            return f"no route: {route_words(lost.route, family)} cannot be used, {lost.why}"
    return "no route to the destination"
