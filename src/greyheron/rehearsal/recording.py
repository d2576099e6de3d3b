"""What happens in the built network: frames at every device, and the entries that packets come to."""

import selectors
import socket
import struct
from collections.abc import Mapping
from contextlib import suppress

from greyheron.model.device import Device
from greyheron.rehearsal.filterlog import FilterLog
from greyheron.rehearsal.kernel import Built
from greyheron.rehearsal.packets import Captured, packet_header
from greyheron.rehearsal.rulebook import Counted
from greyheron.rehearsal.sendings import Signature

_ALL_PACKETS = 3
_OUTGOING = 4
_TIMESTAMP = 35


class Recording:
    """Captures in devices, and what their filters tell; read whenever the selector says so."""

    def __init__(self, selector: selectors.BaseSelector, built: Built) -> None:
        self._selector, self._built = selector, built
        self._captures: list[socket.socket] = []
        self._logs: list[FilterLog] = []
        self._caught: list[Captured] = []
        self.counted: list[tuple[Counted, Signature]] = []
        """The entries that packets came to, since it was begun anew."""

    def caught(self) -> list[Captured]:
        """Every packet since it was begun anew, in order."""
        return sorted(self._caught, key=lambda each: each.at)

    def begin_anew(self) -> None:
        self._caught.clear()
        self.counted.clear()

    def close(self) -> None:
        for log in self._logs:
            log.close()
        for each in self._captures:
            each.close()

    def watch(self, device: Device) -> None:
        """Capture in a device, and listen to its filter. Raises OSError."""
        with self._built.namespaces[device.name].entered():
            caught = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(_ALL_PACKETS))
        caught.setblocking(False)
        caught.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 1 << 22)
        caught.setsockopt(socket.SOL_SOCKET, _TIMESTAMP, 1)
        self._captures.append(caught)
        self._selector.register(caught, selectors.EVENT_READ, lambda: self._catch(device.name, caught))
        counters = self._built.plan.places[device.name].rules.counters
        if counters:
            log = FilterLog(self._built.namespaces[device.name])
            self._logs.append(log)
            self._selector.register(log.socket, selectors.EVENT_READ, lambda: self._count(log, counters))

    def _catch(self, device: str, caught: socket.socket) -> None:
        with suppress(BlockingIOError):
            while True:
                frame, told, _, (port, _, kind, *_) = caught.recvmsg(2048, 64)
                if port != "lo":
                    at = next(
                        (struct.unpack("=qq", data) for _, what, data in told if what == _TIMESTAMP), (0, 0)
                    )
                    self._caught.append(
                        Captured(device, port, kind == _OUTGOING, at[0] * 1_000_000_000 + at[1], frame)
                    )

    def _count(self, log: FilterLog, counters: Mapping[str, Counted]) -> None:
        for name, packet in log.read():
            header = packet_header(packet)
            if name in counters and header is not None:
                self.counted.append((counters[name], header.signature))
