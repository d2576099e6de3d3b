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
    "clear-text service": "Whether it stays is yours to decide: require that it is blocked, or accept it.",
    "duplicate address": "Which of the two is right cannot be seen from here: change one of them.",
    "empty list": "What it is to say is not known: write its entries, or remove it.",
    "ICMP type that does not fit its note": "Either the note or the type is wrong: only its author knows.",
    "inverted wildcard": "The network that was meant cannot be told from what is left: write it as a prefix.",
    "list that faces the wrong way": "Turning it would take the place of another list, or fits no better.",
    "list on the console line": "The remote line has a list, or is not there: decide which stands there.",
    "lists that drift apart": "Which of the two is right, or whether both are, is for you to decide.",
    "management locked out": "Who may log in is yours to say: require it, and ask where it goes.",
    "name of another direction": "Either its name or its place is wrong: rename it, or turn it.",
    "neighbour discovery cut": "A standard list knows sources only: make it an extended one first.",
    "no way back": "No list has a part in it: mend the routes or the gateway of the device that is named.",
    "no way out": "No list has a part in it: mend the routes or the gateway of the device that is named.",
    "placed nowhere": "What it is for decides where it goes: require that, and ask where it should go.",
    "prefix on two segments": "Which one keeps it is yours to decide: give the other another prefix.",
    "query for a name blocked": "A standard list knows sources only: make it an extended one first.",
    "reply blocked": "A standard list cannot tell replies from requests: make it an extended one first.",
    "route that cannot be used": "Where it is to lead is not known: mend its next hop, or take it out.",
    "routing neighbours cut": "A standard list knows sources only: make it an extended one first.",
    "source-only list on a shared way": "No place was found where it would keep from fewer.",
    "standard list near the source": "Near what it protects it would keep from less: ask where it goes.",
    "test that proves nothing": "It fails or is blocked without any list: write one that a list decides.",
    "unknown address": "Who was meant is not known: correct the address, or take the entry out.",
    "VLAN mismatch": "Which of the two sides is right cannot be seen from here: change one of them.",
    "address of the other side": "Whom it means after translation is not one address: write it by hand.",
    "list stops what is wanted": "No other place was found where it would do its work and stop nothing else.",
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
