"""Who answers in the built network: listeners at every service, which send back what they are sent."""

import selectors
import socket
import struct
from contextlib import suppress

from greyheron.core.world import World
from greyheron.model.device import Device
from greyheron.model.names import TCP, UDP
from greyheron.model.values import Family
from greyheron.rehearsal.kernel import Built
from greyheron.rehearsal.naming import answer_of
from greyheron.rehearsal.packets import socket_family
from greyheron.rehearsal.sendings import Probe

_PACKET_INFO = {Family.IPV4: (socket.IPPROTO_IP, 8), Family.IPV6: (socket.IPPROTO_IPV6, 49)}


class Listeners:
    """Sockets in the namespaces of devices; they answer whenever the selector says so."""

    def __init__(self, selector: selectors.BaseSelector, world: World, built: Built) -> None:
        self._selector, self._world, self._built = selector, world, built
        self._open: list[socket.socket] = []
        self._listening: set[tuple[str, int, int, Family]] = set()

    def close(self) -> None:
        for each in self._open:
            each.close()

    def serve(self, device: Device) -> None:
        """Listen to what a device offers, and at its management lines. Raises OSError."""
        for service in device.services:
            self._listen(device.name, TCP if service.protocol == "tcp" else UDP, service.port)
        for line in device.lines:
            for port in line.ports:
                self._listen(device.name, TCP, port)

    def be_there_for(self, sending: Probe) -> None:
        """Who stands for many networks listens to what is asked of it; everybody takes any other protocol."""
        topology, opener = self._world.topology, sending.opener
        for predicted in sending.predicted:
            device = topology.devices[predicted.way[-1]]
            if device.name not in self._built.namespaces:
                continue
            last = predicted.signatures[-1] if predicted.signatures else None
            port = opener.destination_port if last is None else last[4]
            if opener.protocol in (TCP, UDP):
                if device.traits.open_ended and port is not None:
                    self._listen(device.name, opener.protocol, port)
            elif opener.protocol != opener.family.icmp:
                key = device.name, opener.protocol, 0, opener.family
                if key not in self._listening:
                    self._listening.add(key)
                    with self._built.namespaces[device.name].entered():
                        self._open.append(
                            socket.socket(socket_family(opener.family), socket.SOCK_RAW, opener.protocol)
                        )

    def _listen(self, device: str, protocol: int, port: int) -> None:
        for family in Family:
            key = device, protocol, port, family
            if key in self._listening:
                continue
            self._listening.add(key)
            kind = socket.SOCK_STREAM if protocol == TCP else socket.SOCK_DGRAM
            with self._built.namespaces[device].entered():
                listener = socket.socket(socket_family(family), kind)
            if family is Family.IPV6:
                listener.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_V6ONLY, 1)
            listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            listener.setblocking(False)
            listener.bind(("", port))
            self._open.append(listener)
            if protocol == TCP:
                listener.listen(256)
                self._selector.register(listener, selectors.EVENT_READ, lambda it=listener: self._accept(it))
            else:
                listener.setsockopt(*_PACKET_INFO[family], 1)
                self._selector.register(
                    listener,
                    selectors.EVENT_READ,
                    lambda it=listener, of=family: self._answer(it, of, device),
                )

    def _answer(self, listener: socket.socket, family: Family, device: str) -> None:
        """Answer a query, or send a datagram back, from the address that it was sent to."""
        with suppress(OSError):
            said, more, _, whom = listener.recvmsg(2048, 256)
            back = [(level, kind, _from_there(data, family)) for level, kind, data in more]
            answer = answer_of(self._world.topology.devices[device], said)
            listener.sendmsg([said if answer is None else answer], back, 0, whom)

    def _accept(self, listener: socket.socket) -> None:
        with suppress(OSError):
            taken, _ = listener.accept()
            taken.setblocking(False)
            self._open.append(taken)
            self._selector.register(taken, selectors.EVENT_READ, lambda: self._echo(taken))

    def _echo(self, taken: socket.socket) -> None:
        said = b""
        with suppress(OSError):
            said = taken.recv(2048)
            if said:
                taken.send(said)
        if not said:
            self._selector.unregister(taken)
            self._open.remove(taken)
            taken.close()


def _from_there(data: bytes, family: Family) -> bytes:
    if family is Family.IPV6:
        return data
    return struct.pack("=I4s4s", 0, data[8:12], b"\0" * 4)  # by whichever port leads there
