"""Sessions and translations of a conversation: sessions and translations, and for how long (§6, §7)."""

from collections.abc import Mapping
from dataclasses import dataclass

from greyheron.core.walk.connection import Key, Session
from greyheron.core.walk.sessions import lifetime, tracks
from greyheron.core.walk.verdicts import Exchange
from greyheron.model.device import Device
from greyheron.model.names import TCP, protocol_name
from greyheron.model.values import Family


@dataclass(frozen=True, slots=True)
class KeptReport:
    """One conversation as one device knows it.

    came, sent:  its first packet as it came and as it went on, which differ where it was translated
    tracked:  whether it lets later packets pass;  state:  how far it has got
    lasts:  for how long it is kept after the last packet
    """

    device: str
    protocol: str
    came: str
    sent: str
    tracked: bool
    translated: bool
    state: str
    lasts: str


def kept_after(exchange: Exchange, devices: Mapping[str, Device]) -> tuple[KeptReport, ...]:
    """What is known of a conversation when it has ended, in the order in which devices came to know it."""
    path = exchange.decider.path
    family = path.packet.family
    opener = exchange.legs[0].path.packet
    found = []
    for session in path.connection.sessions:
        tracked, translated = tracks(devices[session.device], opener), session.came != session.sent
        if tracked or translated:
            found.append(
                KeptReport(
                    session.device,
                    protocol_name(session.came.protocol, family),
                    _ends(session.came, family),
                    _ends(session.sent, family),
                    tracked,
                    translated,
                    _state(session),
                    _lasting_words(lifetime(session)),
                )
            )
    return tuple(found)


def _state(session: Session) -> str:
    if session.answered:
        return "under way" if session.came.protocol == TCP else "answered"
    return "half open" if session.came.protocol == TCP else "not answered yet"


def _ends(key: Key, family: Family) -> str:
    """“172.20.16.21:49152 → 203.0.113.10:443”, IPv6 addresses in brackets where a port follows."""
    ends = (key.source, key.source_port), (key.destination, key.destination_port)
    return " → ".join(_end(family, address, port) for address, port in ends)


def _end(family: Family, address: int | None, port: int | None) -> str:
    text = "?" if address is None else family.text(address)
    if port is None:
        return text
    return f"[{text}]:{port}" if family is Family.IPV6 else f"{text}:{port}"


def kept_words(kept: KeptReport) -> str:
    """“tcp session under way 172.20.16.21:49152 → …, goes on as …; kept for 2 h 4 min”."""
    what = "session" if kept.tracked else "translation"
    onward = f", goes on as {kept.sent}" if kept.translated else ""
    return f"{kept.protocol} {what} {kept.state}, {kept.came}{onward}; kept for {kept.lasts}"


def _lasting_words(seconds: int) -> str:
    """“2 h 4 min”, “60 s”."""
    if seconds < 120:
        return f"{seconds} s"
    hours, minutes = divmod(seconds // 60, 60)
    return f"{hours} h {minutes} min" if hours else f"{minutes} min"
