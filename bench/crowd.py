"""How long a light request takes beside fifty windows, two hundred idle connections and twenty slow ones.

python bench/crowd.py [SECONDS]
"""

import asyncio
import sys
import time
from collections import Counter
from contextlib import suppress
from http.client import HTTPConnection
from multiprocessing import Pipe, Process
from multiprocessing.connection import Connection
from random import Random
from typing import Any
from urllib.parse import urlsplit

import httpx2
import numpy as np

from bench.load import LIGHT, serving

WINDOWS, NETWORKS, IDLE, SLOW = 50, 10, 200, 20
PAUSES = (1.0, 6.0)
"""Seconds between two things that somebody at a window does, at least and at most."""


def watch(address: str, seconds: float, told: Connection) -> None:
    """Light requests, each by a connection of its own: whoever comes has to be let in as well."""
    place, end, found = urlsplit(address), time.monotonic() + seconds, list[float]()
    while time.monotonic() < end:
        began = time.perf_counter()
        asking = HTTPConnection(place.hostname or "", place.port, timeout=600)
        asking.request("GET", LIGHT)
        answer = asking.getresponse()
        answer.read()
        asking.close()
        assert answer.status == 200
        found.append(1000 * (time.perf_counter() - began))
        time.sleep(0.1)
    told.send(found)


class Crowd:
    """Everybody else who is at a server for some time."""

    def __init__(self, address: str, seconds: float) -> None:
        self._address, self._end = address, time.monotonic() + seconds
        self.did: Counter[str] = Counter()

    @property
    def _going(self) -> bool:
        return time.monotonic() < self._end

    async def all(self) -> None:
        async with httpx2.AsyncClient(base_url=self._address, timeout=600) as client:
            made = [(await client.post("/api/networks/demo")).json()["id"] for _ in range(NETWORKS)]
        everybody = [self._window(number, made[number % NETWORKS]) for number in range(WINDOWS)]
        everybody += [self._idle() for _ in range(IDLE)] + [self._slow() for _ in range(SLOW)]
        await asyncio.gather(*everybody)

    async def _window(self, number: int, network: str) -> None:
        """Somebody who types, looks, and asks for what is long now and then."""
        chance = Random(number)
        async with httpx2.AsyncClient(base_url=self._address, timeout=600) as client:
            path = f"/api/networks/{network}"
            while self._going:
                await asyncio.sleep(chance.uniform(*PAUSES))
                what = chance.choice(("edit", "edit", "edit", "trace", "policy", "findings", "advice"))
                await getattr(self, f"_{what}")(client, path, chance)
                self.did[what] += 1

    async def _edit(self, client: httpx2.AsyncClient, path: str, chance: Random) -> None:
        told = (await client.get(path)).json()
        body = {"do": "require", "statement": f"block kiosk → ledger tcp/{chance.randrange(1, 65536)}"}
        headers = {"If-Match": f'"{told["version"]}"'}
        answer = await client.post(f"{path}/draft/intents", json=body, headers=headers)
        if answer.is_success and len(told["draft"]["requirements"]) > 12:
            await client.post(f"{path}/draft/discard", headers={"If-Match": answer.headers["etag"]})
        await client.get(f"{path}/book")

    async def _trace(self, client: httpx2.AsyncClient, network: str, chance: Random) -> None:
        flow = f"kiosk → ledger tcp/{chance.randrange(1, 65536)}"
        await client.post(f"{network}/trace", json={"flow": flow, "state": "draft"})

    async def _policy(self, client: httpx2.AsyncClient, path: str, _chance: Random) -> None:
        await self._long(client, f"{path}/policy", None)

    async def _findings(self, client: httpx2.AsyncClient, path: str, _chance: Random) -> None:
        await self._long(client, f"{path}/findings", None)

    async def _advice(self, client: httpx2.AsyncClient, path: str, _chance: Random) -> None:
        await self._long(client, f"{path}/advice", {"text": "block visitors → ledger telnet"})

    async def _long(self, client: httpx2.AsyncClient, path: str, body: Any) -> None:
        answer = (await client.post(path, json=body)).json()
        while answer.get("result") is None and "id" in answer and self._going:
            await asyncio.sleep(0.3)
            answer = (await client.get(f"/api/jobs/{answer['id']}")).json()

    async def _idle(self) -> None:
        """Somebody who connects, says nothing, and connects again when that is ended."""
        await self._connected(b"", pause=1.0)

    async def _slow(self) -> None:
        """Somebody whose request never comes to its end."""
        await self._connected(b"GET /api/networks HTTP/1.1\r\nX-Slow: ", pause=0.5, said=b"x")

    async def _connected(self, first: bytes, pause: float, said: bytes = b"") -> None:
        place = urlsplit(self._address)
        while self._going:
            with suppress(OSError):
                reading, writing = await asyncio.open_connection(place.hostname, place.port)
                self.did["connection"] += 1
                writing.write(first)
                while self._going and not reading.at_eof():
                    if said:
                        writing.write(said)
                        await writing.drain()
                    with suppress(TimeoutError):
                        await asyncio.wait_for(reading.read(1), pause)
                writing.close()
            await asyncio.sleep(0.1)


def main() -> None:
    seconds = float(sys.argv[1]) if len(sys.argv) > 1 else 300.0
    with serving(2) as address:
        mine, its = Pipe()
        watching = Process(target=watch, args=(address, seconds, its))
        watching.start()
        crowd = Crowd(address, seconds)
        asyncio.run(crowd.all())
        light = mine.recv()
        watching.join()
    middle, late, last = np.percentile(light, (50, 99, 100))
    print(
        f"{len(light)} light requests beside {WINDOWS} windows, {IDLE} idle and {SLOW} slow "
        f"connections: median {middle:.0f} ms, 99th percentile {late:.0f} ms, longest {last:.0f} ms"
    )
    print(dict(crowd.did))


if __name__ == "__main__":
    main()
