"""Connections have bounds: how many there are, and how long each keeps a place and asks for nothing."""

from __future__ import annotations

import asyncio
import resource
from typing import ClassVar

from uvicorn.protocols.http.httptools_impl import HttpToolsProtocol

MOST_CONNECTIONS = 1000
LEAST_CONNECTIONS = 16
OWN_FILES = 96
"""So many files and pipes are open besides connections: the database, workers, what is being read."""
IDLE = 20.0
"""Seconds that a connection may be open with nothing under way."""
PAUSE = 30.0
"""Seconds that a request's head may take, and that its body may pause."""
LONGEST_ASKING = 900.0
"""Seconds that a request may take to come, and its answer to be taken."""
_LOOK = 1.0


def most_connections() -> int:
    """How many connections may be open at once; the process is allowed as many open files as it may have."""
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    wanted = MOST_CONNECTIONS + OWN_FILES
    if soft != resource.RLIM_INFINITY and soft < wanted:
        soft = wanted if hard == resource.RLIM_INFINITY else min(wanted, hard)
        resource.setrlimit(resource.RLIMIT_NOFILE, (soft, hard))
    if soft == resource.RLIM_INFINITY:
        return MOST_CONNECTIONS
    return max(LEAST_CONNECTIONS, min(MOST_CONNECTIONS, soft - OWN_FILES))


class BoundedConnection(HttpToolsProtocol):
    """A connection of a server with bounds; where there are too many, the one that was idle longest goes."""

    most: ClassVar[int] = MOST_CONNECTIONS
    idle: ClassVar[float] = IDLE
    pause: ClassVar[float] = PAUSE
    longest: ClassVar[float] = LONGEST_ASKING
    _idle_since = 0.0
    _asked_since: float | None = None
    _heard = 0.0
    _stuck_since: float | None = None
    _looking: asyncio.TimerHandle | None = None

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        super().connection_made(transport)
        self._idle_since = self._heard = self.loop.time()
        if len(self.connections) > self.most:
            others = (each for each in self.connections if isinstance(each, BoundedConnection))
            waiting = [each for each in others if each is not self and each.is_idle]
            if not waiting:
                self.drop()
                return
            min(waiting, key=lambda each: each._idle_since).drop()
        self._look()

    def connection_lost(self, exc: Exception | None) -> None:
        if self._looking is not None:
            self._looking.cancel()
        super().connection_lost(exc)

    def data_received(self, data: bytes) -> None:
        self._heard = self.loop.time()
        super().data_received(data)

    def on_message_begin(self) -> None:
        self._asked_since = self.loop.time()
        super().on_message_begin()

    def on_response_complete(self) -> None:
        self._idle_since, self._asked_since = self.loop.time(), None
        super().on_response_complete()

    @property
    def is_idle(self) -> bool:
        """Whether nothing is under way that was asked here."""
        return self.cycle is None or self.cycle.response_complete

    def drop(self) -> None:
        """Close it; whoever is there may come again."""
        self.transport.abort()

    def _look(self) -> None:
        """Now and then: whether it has kept its place for too long."""
        if self._is_late(self.loop.time()):
            self.drop()
        elif not self.transport.is_closing():
            self._looking = self.loop.call_later(_LOOK, self._look)

    def _is_late(self, now: float) -> bool:
        if self.is_idle:
            if self._asked_since is not None:  # the head of a request is still coming
                return now - self._asked_since > self.pause
            return now - self._idle_since > self.idle
        if self.cycle.more_body:
            paused = now - self._heard > self.pause and not self.flow.read_paused
            return paused or now - (self._asked_since or now) > self.longest
        if self.transport.get_write_buffer_size() == 0:
            self._stuck_since = None
        elif self._stuck_since is None:
            self._stuck_since = now
        return self._stuck_since is not None and now - self._stuck_since > self.longest
