"""What a device's packet filter is told, gathered: chains, rules, and counters with what they count."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from msgspec import Struct

from greyheron.core.world import World
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.device import Device
from greyheron.model.names import TCP, UDP
from greyheron.model.values import DenialAnswer, Family, LoginAnswer
from greyheron.rehearsal.expressions import Expression, match, meta

TABLE = {"family": "inet", "name": "heron"}
FRAMES = {"family": "netdev", "name": "heron-frames"}
NEIGHBOURS = {"family": "arp", "name": "heron-neighbours"}
LOG_GROUP = 1
"""Where the packet filter tells of every packet that an entry decides."""
ICMP = {Family.IPV4: 1, Family.IPV6: 58}


class Counted(Struct, frozen=True):
    """What a counter counts: one entry of a list at one place; `entry` is None for its end."""

    point: AttachmentPoint
    list: str
    entry: int | None


@dataclass(frozen=True, slots=True)
class Rules:
    """What the packet filter is told, as commands of its JSON interface, and what its counters count."""

    commands: tuple[dict[str, Any], ...] = ()
    counters: Mapping[str, Counted] = field(default_factory=dict)


class Denying(Struct, frozen=True):
    """What a device does with a packet that it denies: with TCP, and with all else."""

    tcp: Expression
    others: Expression


_DROP: Expression = {"drop": None}
_RESET: Expression = {"reject": {"type": "tcp reset"}}
DROPPING = Denying(_DROP, _DROP)
_SAID = {
    DenialAnswer.PROHIBITED: "admin-prohibited",
    DenialAnswer.HOST_UNREACHABLE: "host-unreachable",
    DenialAnswer.NETWORK_UNREACHABLE: "no-route",
    DenialAnswer.PORT_UNREACHABLE: "port-unreachable",
    DenialAnswer.RESET: "port-unreachable",
}


def denying(answer: DenialAnswer) -> Denying:
    """What the packet filter does to answer a denial so."""
    if answer is DenialAnswer.NOTHING:
        return DROPPING
    told: Expression = {"reject": {"type": "icmpx", "expr": _SAID[answer]}}
    return Denying(_RESET if answer is DenialAnswer.RESET else told, told)


class RuleBook:
    """The rules of one device as they are made.

    ports:  the kernel's name of each interface;  every:  all names, of a switch port one for each VLAN
    tracked:  protocols whose sessions it follows;  deny, deny_login:  what it does with what it denies
    """

    def __init__(
        self, world: World, device: Device, ports: Mapping[str, tuple[str, ...]], left_out: list[str]
    ) -> None:
        self.world, self.device, self.left_out = world, device, left_out
        self.ports = {name: kernel[0] for name, kernel in ports.items() if kernel}
        self.every = ports
        self.commands: list[dict[str, Any]] = []
        self.counters: dict[str, Counted] = {}
        self._chains: set[str] = set()
        tracked = device.tracked
        self.tracked = [number for name, number in (("tcp", TCP), ("udp", UDP)) if name in tracked]
        self.tracked += [*ICMP.values()] if "icmp" in tracked else []
        self.deny = denying(device.denial_answer)
        self.deny_login = Denying(_RESET, _DROP) if device.answers_logins is LoginAnswer.RESET else DROPPING

    def chain(self, name: str, hook: str, priority: int, kind: str = "filter", inner: bool = False) -> str:
        """A base chain, made once. `inner`: whether it sees what a device says to itself."""
        if name not in self._chains:
            self._chains.add(name)
            self.commands.append(
                {
                    "add": {
                        "chain": {
                            "family": TABLE["family"],
                            "table": TABLE["name"],
                            "name": name,
                            "type": kind,
                            "hook": hook,
                            "prio": priority,
                            "policy": "accept",
                        }
                    }
                }
            )
            if kind == "filter" and not inner:
                self.rule(
                    name, match(meta("iifname" if hook != "output" else "oifname"), "lo"), {"accept": None}
                )
        return name

    def rule(self, chain: str, *expressions: Expression, table: dict[str, str] = TABLE) -> None:
        rule = {"family": table["family"], "table": table["name"], "chain": chain, "expr": list(expressions)}
        self.commands.append({"add": {"rule": rule}})

    def denies(self, chain: str, deny: Denying, *conditions: Expression, protocol: int | None = None) -> None:
        """Rules for what is denied. The kernel resets only where a rule says that it is about TCP.

        protocol:  the only one that the conditions let through
        """
        if deny.tcp == deny.others or protocol not in (None, TCP):
            self.rule(chain, *conditions, deny.others)
            return
        self.rule(chain, match(meta("l4proto"), TCP), *conditions, deny.tcp)
        if protocol is None:
            self.rule(chain, *conditions, deny.others)

    def told(self, counter: str) -> tuple[Expression, Expression]:
        """A packet is counted, and told of by the counter's name."""
        return {"counter": counter}, {"log": {"prefix": counter, "group": LOG_GROUP}}

    def counter(self, counted: Counted, table: dict[str, str] = TABLE) -> str:
        name = f"c{len(self.counters)}"
        self.counters[name] = counted
        self.commands.append(
            {"add": {"counter": {"family": table["family"], "table": table["name"], "name": name}}}
        )
        return name
