"""Repairs that let through what a list stops, and why some kinds of findings have none."""

from collections.abc import Sequence

from msgspec.structs import replace

from greyheron.analysis.advice.entries import holding, rewritten, with_entries
from greyheron.analysis.findings.finding import Finding, Repair
from greyheron.core.lists.met import Filtered
from greyheron.core.packet import Packet
from greyheron.model.document import AccessList, Network
from greyheron.model.entry import Entry
from greyheron.model.names import TCP, UDP
from greyheron.model.notation.entries import write_entry
from greyheron.model.values import Family, ListKind

NO_REPAIR = {
    "clear-text service": "Only you can say if it is wanted: require that it is blocked, or accept it.",
    "duplicate address": "The model cannot tell which of the two is right: change one of them.",
    "empty list": "Its purpose is not known: write its entries, or remove it.",
    "ICMP type that does not fit its note": "Either the note or the type is wrong: only its author knows.",
    "inverted wildcard": "The intended network cannot be derived from it: write it as a prefix.",
    "list that faces the wrong way": "The other direction has a list already, or fits no better.",
    "list on the console line": "The remote line has a list, or there is none: decide which belongs there.",
    "lists that drift apart": "Only you can decide which of the two is right, or whether both are.",
    "management locked out": "Only you can say who may log in: require it, and ask where a list should go.",
    "name of another direction": "Its name or its direction is wrong: rename it, or turn it round.",
    "neighbour discovery cut": "A standard list matches sources only: make it extended first.",
    "no way back": "No list is involved: fix the routes or the gateway of that device.",
    "no way out": "No list is involved: fix the routes or the gateway of that device.",
    "placed nowhere": "Its place depends on its purpose: require that, and ask where it should go.",
    "prefix on two segments": "Only you can decide which segment keeps it: give the other one a new prefix.",
    "query for a name blocked": "A standard list matches sources only: make it extended first.",
    "reply blocked": "A standard list cannot tell replies from requests: make it extended first.",
    "route that cannot be used": "The intended next hop is not known: correct it, or remove the route.",
    "routing neighbours cut": "A standard list matches sources only: make it extended first.",
    "source-only list on a shared way": "No place was found where it would block less.",
    "standard list near the source": "Nearer to what it protects it would block less: ask where it goes.",
    "test that proves nothing": "It ends the same without lists: write one that a list decides.",
    "unknown address": "The intended address is not known: correct it, or remove the entry.",
    "VLAN mismatch": "The model cannot tell which side is right: change one of them.",
    "address of the other side": "After translation it is more than one address: write the entry by hand.",
    "list stops what is wanted": "No other place was found where it does its job and blocks nothing else.",
}
"""Why a finding of a kind has no repair, where it has none: one sentence."""


def unrepaired(finding: Finding) -> str:
    """Why it has no repair; "" where it has one."""
    return "" if finding.repair is not None else NO_REPAIR[finding.kind]


def letting_through(network: Network, denial: Filtered, lines: Sequence[str], what: str) -> Repair | None:
    """Entries before the one that denies, or at the end of the list; None where they cannot be said there."""
    access_list = next(each for each in network.lists if each.name == denial.list_name)
    if not lines or access_list.kind is ListKind.STANDARD:
        return None
    text = with_entries(access_list, lines, denial.decision.entry)
    return Repair(f"let {what} through in {access_list.name}", (rewritten(access_list, text),))


def replies(network: Network, denial: Filtered, packet: Packet) -> Repair | None:
    """Lets packets through that only answer, as far as `packet` shows what they are."""
    family = packet.family
    if denial.frame is not None:
        lines = [f"permit {family.word.lower()}"]
    elif packet.protocol == TCP:
        lines = ["permit tcp from any to any established"]
    elif packet.protocol == UDP and packet.source is not None:
        lines = [f"permit udp from {family.text(packet.source)} port {packet.source_port} to any"]
    elif packet.protocol == family.icmp:
        lines = ["permit icmp echo-reply from any to any"]
    else:
        lines = []
    return letting_through(network, denial, lines, "replies")


def discovery(network: Network, denial: Filtered, family: Family) -> Repair | None:
    """Lets neighbours be found: ARP (RFC 826), or what neighbour discovery says (RFC 4861)."""
    if denial.frame is not None:
        what = "ARP" if family is Family.IPV4 else "IPv6"
        return letting_through(network, denial, [f"permit {what.lower()}"], what)
    asks = ("neighbour-solicitation", "neighbour-advertisement")
    lines = [f"permit icmp {each} from any to any" for each in asks]
    return letting_through(network, denial, lines, "neighbour discovery")


def without_ports(access_list: AccessList, entry: Entry, before: int) -> Repair:
    """The same for fragments that are not the first, which have no ports, ahead of what lets them through."""
    alike = replace(
        entry, source_ports=(), destination_ports=(), established=False, flags=None, fragment=True, remarks=()
    )
    line = write_entry(alike, access_list.family, access_list.kind).split(" ", 1)[1]
    text = with_entries(access_list, [line.strip()], before)
    return Repair(f"deny their fragments in {access_list.name}", (rewritten(access_list, text),))


def moved_before(access_list: AccessList, number: int, before: int) -> Repair:
    """An entry ahead of the one that hides it."""
    entries = list(access_list.body.entries)
    moved = entries.pop(next(at for at, each in enumerate(entries) if each.number == number))
    entries.insert(next(at for at, each in enumerate(entries) if each.number == before), moved)
    even = (replace(entry, number=10 * place) for place, entry in enumerate(entries, 1))
    return Repair(f"move entry {number} of {access_list.name} up", (holding(access_list, even),))


def taking_out(access_list: AccessList, numbers: Sequence[int]) -> Repair:
    """A list without entries that have nothing to do."""
    kept = (each for each in access_list.body.entries if each.number not in numbers)
    few = f"entry {numbers[0]}" if len(numbers) == 1 else f"{len(numbers)} entries that do nothing"
    label = f"take {few} out of {access_list.name}"
    return Repair(label, (holding(access_list, kept),))
