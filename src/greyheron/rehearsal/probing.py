"""Trying for real: conversations sent by their senders, and what each of them sees."""

import errno
import os
import selectors
import socket
import struct
import time
from collections.abc import Callable, Iterable, Sequence
from contextlib import suppress
from dataclasses import dataclass
from ipaddress import ip_address

from msgspec import Struct
from msgspec.structs import replace

from greyheron.core.packet import Packet
from greyheron.core.walk.conversation import expects_reply
from greyheron.core.walk.icmp_errors import ICMP_ERRORS, Seen
from greyheron.core.walk.walk import own_address
from greyheron.core.world import World
from greyheron.model.names import TCP, UDP
from greyheron.model.values import Family
from greyheron.rehearsal.kernel import Built, Namespace
from greyheron.rehearsal.listeners import Listeners
from greyheron.rehearsal.naming import addresses_in, query_for
from greyheron.rehearsal.packets import (
    PAYLOAD,
    Captured,
    Header,
    crafted,
    fragment,
    header_of,
    socket_family,
)
from greyheron.rehearsal.recording import Recording
from greyheron.rehearsal.rulebook import Counted
from greyheron.rehearsal.sendings import Probe, Signature

_RECEIVE_ERRORS = {Family.IPV4: (socket.IPPROTO_IP, 11), Family.IPV6: (socket.IPPROTO_IPV6, 25)}
_TRAFFIC_CLASS = {Family.IPV4: (socket.IPPROTO_IP, 1), Family.IPV6: (socket.IPPROTO_IPV6, 67)}
_ERROR_QUEUE = 0x2000
_NO_DEFRAGMENT = 22
_HEADER_INCLUDED = {Family.IPV4: (socket.IPPROTO_IP, 3), Family.IPV6: (socket.IPPROTO_IPV6, 36)}
_LOCAL_ORIGIN = 1
_SAID = {
    errno.ECONNREFUSED: Seen.RESET,
    errno.ENETUNREACH: Seen.NETWORK_UNREACHABLE,
    errno.EHOSTUNREACH: Seen.HOST_UNREACHABLE,
    errno.ENOTCONN: Seen.NOTHING,
    errno.EPERM: Seen.NOTHING,
    errno.EACCES: Seen.PROHIBITED,
    errno.ETIMEDOUT: Seen.NOTHING,
}


class Observed(Struct, frozen=True):
    """What came of one sending: as in `Predicted`.

    captured:  every packet of it, in order;  counted:  the entries that they came to, with their signatures
    """

    sees: Seen
    by: str | None
    addresses: tuple[str, ...]
    way: tuple[str, ...]
    captured: tuple[Captured, ...]
    counted: tuple[tuple[Counted, Signature], ...]


@dataclass
class _Attempt:
    """One sending under way."""

    sending: Probe
    number: int
    talking: socket.socket | None = None
    connected: bool = False
    sees: Seen | None = None
    by: str | None = None
    addresses: tuple[str, ...] = ()


class Stage:
    """The network with its listeners and captures; sends groups of conversations."""

    def __init__(self, world: World, built: Built, asked: Iterable[Probe]) -> None:
        self._world, self._built = world, built
        self._selector = selectors.DefaultSelector()
        self._recording = Recording(self._selector, built)
        self._listeners = Listeners(self._selector, world, built)
        for device in world.topology.devices.values():
            if device.name in built.namespaces and not device.traits.bridges:
                self._recording.watch(device)
                self._listeners.serve(device)
        for sending in asked:
            self._listeners.be_there_for(sending)

    def close(self) -> None:
        self._recording.close()
        self._listeners.close()
        self._selector.close()

    def send(self, group: Sequence[Probe], patience: float) -> list[Observed]:
        """Send conversations that cannot be taken for each other; `patience`: seconds to wait for silence."""
        self._recording.begin_anew()
        attempts = [_Attempt(sending, 0x4000 + number) for number, sending in enumerate(group)]
        for attempt in attempts:
            self._begin(attempt)
        end = time.monotonic() + patience
        while time.monotonic() < end and any(self._waits(attempt) for attempt in attempts):
            self._turn(min(0.05, max(0.0, end - time.monotonic())))
        quiet = time.monotonic() + 0.03
        while time.monotonic() < quiet:
            self._turn(0.01)
        for attempt in attempts:
            self._finish(attempt)
        headers = [(each, header_of(each.frame)) for each in self._recording.caught()]
        return [self._observed(attempt, headers) for attempt in attempts]

    def _begin(self, attempt: _Attempt) -> None:
        opener = self._sourced(attempt.sending)
        namespace = self._built.namespaces[attempt.sending.sender]
        try:
            whole = opener.opens and opener.protocol == TCP
            if opener.fragment:
                self._send_fragment(attempt, opener, namespace)
            elif opener.protocol == UDP or whole:
                self._talk(attempt, opener, namespace)
            else:
                self._send_raw(attempt, opener, namespace)
        except OSError as error:
            self._local(attempt, error.errno or 0)

    def _sourced(self, sending: Probe) -> Packet:
        """The packet with its source, where the kernel is not asked to choose one."""
        opener = sending.opener
        plain = opener.protocol == UDP or (opener.protocol == TCP and opener.opens)
        if opener.source is not None or (plain and not opener.fragment):
            return opener
        world = self._world
        if world.topology.owns(sending.sender, opener.family, opener.destination):
            return replace(opener, source=opener.destination)
        hops = world.lookup(sending.sender, opener.family, opener.destination).hops
        chosen = own_address(world, sending.sender, hops[0], opener) if hops else None
        every = world.topology.addresses(sending.sender, opener.family)
        return replace(opener, source=chosen if chosen is not None else next(iter(every), 0))

    def _talk(self, attempt: _Attempt, opener: Packet, namespace: Namespace) -> None:
        kind = socket.SOCK_STREAM if opener.protocol == TCP else socket.SOCK_DGRAM
        with namespace.entered():
            talking = socket.socket(socket_family(opener.family), kind)
        attempt.talking = talking
        self._prepare(talking, opener)
        if kind == socket.SOCK_STREAM:
            talking.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))
        talking.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        source = "" if opener.source is None else opener.family.text(opener.source)
        talking.bind(self._end(opener.family, source, opener.source_port or 0, attempt))
        to = self._end(
            opener.family, opener.family.text(opener.destination), opener.destination_port or 0, attempt
        )
        failed = talking.connect_ex(to)
        if failed not in (0, errno.EINPROGRESS):
            self._local(attempt, failed)
            return
        if kind == socket.SOCK_DGRAM:
            attempt.connected = True
            query = attempt.sending.query
            talking.send(PAYLOAD if query is None else query_for(query.name, query.family))
        self._watch(attempt, talking, write=kind == socket.SOCK_STREAM)

    def _send_raw(self, attempt: _Attempt, opener: Packet, namespace: Namespace) -> None:
        with namespace.entered():
            raw = socket.socket(socket_family(opener.family), socket.SOCK_RAW, opener.protocol)
        attempt.talking = raw
        self._prepare(raw, opener)
        raw.bind(self._end(opener.family, opener.family.text(opener.source or 0), 0, attempt))
        raw.connect(self._end(opener.family, opener.family.text(opener.destination), 0, attempt))
        raw.send(crafted(opener, attempt.number))
        self._watch(attempt, raw, write=False)

    def _send_fragment(self, attempt: _Attempt, opener: Packet, namespace: Namespace) -> None:
        with namespace.entered():
            raw = socket.socket(socket_family(opener.family), socket.SOCK_RAW, opener.protocol)
        attempt.talking = raw
        self._prepare(raw, opener)
        raw.setsockopt(*_HEADER_INCLUDED[opener.family], 1)
        if opener.family is Family.IPV4:
            raw.setsockopt(socket.IPPROTO_IP, _NO_DEFRAGMENT, 1)
        self._watch(attempt, raw, write=False)
        raw.sendto(
            fragment(opener), self._end(opener.family, opener.family.text(opener.destination), 0, attempt)
        )

    def _prepare(self, talking: socket.socket, opener: Packet) -> None:
        talking.setblocking(False)
        talking.setsockopt(*_RECEIVE_ERRORS[opener.family], 1)
        talking.setsockopt(*_TRAFFIC_CLASS[opener.family], opener.dscp << 2)

    def _end(self, family: Family, address: str, port: int, attempt: _Attempt) -> tuple[object, ...]:
        if family is Family.IPV4:
            return address, port
        scope = 0
        if address and ip_address(address).is_link_local:
            sender = attempt.sending.sender
            destination = attempt.sending.opener.destination
            hops = self._world.lookup(sender, family, destination).hops
            own = self._world.topology.holder(sender, family, destination)
            through = own or (hops[0].interface if hops else None)
            name = None if through is None else self._built.plan.places[sender].port(through)
            if name is not None:
                with self._built.namespaces[sender].entered():
                    scope = socket.if_nametoindex(name)
        return address, port, 0, scope

    def _watch(self, attempt: _Attempt, talking: socket.socket, write: bool) -> None:
        events = selectors.EVENT_READ | (selectors.EVENT_WRITE if write else 0)
        self._selector.register(talking, events, lambda: self._hear(attempt, talking))

    def _hear(self, attempt: _Attempt, talking: socket.socket) -> None:
        """Something happened to a conversation: an error, a connection made, an answer."""
        family = attempt.sending.opener.family
        if self._errors(attempt, talking, family):
            return
        failed = talking.getsockopt(socket.SOL_SOCKET, socket.SO_ERROR)
        if failed:
            self._local(attempt, failed)
            self._forget(talking)
            return
        if not attempt.connected and attempt.sending.opener.protocol == TCP and attempt.sending.opener.opens:
            attempt.connected = True
            self._selector.modify(talking, selectors.EVENT_READ, self._selector.get_key(talking).data)
            with suppress(OSError):
                talking.send(PAYLOAD)
            return
        try:
            said, whom = talking.recvfrom(2048)
        except BlockingIOError:
            return
        except OSError as error:
            self._local(attempt, error.errno or 0)
            self._forget(talking)
            return
        if self._answers(attempt, said):
            attempt.sees = Seen.REPLY
            if attempt.sending.query is not None:
                attempt.addresses = addresses_in(said)
            attempt.by = talking.getpeername()[0] if not whom else whom[0]
            attempt.by = str(ip_address(attempt.by.partition("%")[0]))
            self._forget(talking)

    def _answers(self, attempt: _Attempt, said: bytes) -> bool:
        """Whether bytes that were read are the answer that is waited for."""
        opener = attempt.sending.opener
        if opener.protocol != opener.family.icmp:
            return bool(said) and expects_reply(opener)
        message = said[(said[0] & 15) * 4 :] if opener.family is Family.IPV4 else said
        if len(message) < 8 or not expects_reply(opener):
            return False
        kind, _, _, number, _ = struct.unpack("!BBHHH", message[:8])
        return bool(kind == opener.family.echo[1] and number == attempt.number)

    def _errors(self, attempt: _Attempt, talking: socket.socket, family: Family) -> bool:
        """What the kernel was told about the conversation, if it was."""
        try:
            _, more, _, _ = talking.recvmsg(512, 512, _ERROR_QUEUE)
        except OSError:
            return False
        for _, _, told in more:
            number, origin, kind, code = struct.unpack("=IBBB", told[:7])
            if origin == _LOCAL_ORIGIN:
                self._local(attempt, number)
            else:
                attempt.sees = next(
                    (seen for seen, codes in ICMP_ERRORS.items() if codes[family] == (kind, code)),
                    Seen.NOTHING,
                )
                offender = told[20:24] if family is Family.IPV4 else told[24:40]
                attempt.by = self._other_than_sender(attempt, str(ip_address(offender)), family)
        self._forget(talking)
        return True

    def _other_than_sender(self, attempt: _Attempt, address: str, family: Family) -> str | None:
        own = self._world.topology.owns(attempt.sending.sender, family, int(ip_address(address)))
        return None if own else address

    def _local(self, attempt: _Attempt, number: int) -> None:
        """What the sender's own system says."""
        attempt.sees = _SAID.get(number, Seen.NOTHING)
        if attempt.sees is Seen.RESET:
            opener = attempt.sending.opener
            attempt.by = opener.family.text(opener.destination)
        if number not in _SAID:
            raise OSError(number, f"{attempt.sending.name}: {os.strerror(number)}")

    def _forget(self, talking: socket.socket) -> None:
        with suppress(KeyError):
            self._selector.unregister(talking)

    def _waits(self, attempt: _Attempt) -> bool:
        return attempt.sees is None and attempt.talking is not None

    def _turn(self, seconds: float) -> None:
        for key, _ in self._selector.select(seconds):
            react: Callable[[], None] = key.data
            react()

    def _finish(self, attempt: _Attempt) -> None:
        if attempt.talking is not None:
            self._forget(attempt.talking)
            attempt.talking.close()

    def _observed(self, attempt: _Attempt, headers: Sequence[tuple[Captured, Header | None]]) -> Observed:
        sending = attempt.sending
        there, both = sending.outward, sending.signatures
        captured = [each for each, header in headers if header is not None and header.signature in both]
        way = [sending.sender]
        own = sending.opener.family.icmp == sending.opener.protocol
        for each, header in headers:
            if header is None or each.outgoing or header.signature not in there:
                continue
            if (
                own
                and header.code is not None
                and header.code != (sending.opener.icmp_type, sending.opener.icmp_code or 0)
            ):
                continue
            if each.device not in way:
                way.append(each.device)
        counted = tuple(dict.fromkeys(each for each in self._recording.counted if each[1] in both))
        return Observed(
            attempt.sees or Seen.NOTHING, attempt.by, attempt.addresses, tuple(way), tuple(captured), counted
        )
