"""Whether what a server acknowledged is there, whatever happens to it and to its data.

`python scripts/keeping.py` runs many of them.

Each sequence edits, applies, imports, backs up and restores at random, beside a server in a process of its
own that is killed in the middle, ended and started again, loses its folder for a while, or has no room on its
disk. After each step everything is read again: it has to be as it was acknowledged. A step that was cut off
may have been done or not; one that was refused has not been.
"""

import copy
import resource
import shutil
import signal
import socket
import subprocess
import sys
import time
from collections import Counter
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path
from random import Random
from typing import Any

import httpx2

from greyheron.demo.networks import saltmarsh
from greyheron.formats.workspace import read_workspace, write_workspace
from greyheron.model.notation.requirements import write_requirement

FILE = write_workspace(saltmarsh()).encode()
PATIENCE = 60.0


@dataclass
class Known:
    """What was acknowledged: of each network what is required in its draft, and in what is running."""

    drafts: dict[str, list[str]] = field(default_factory=dict)
    running: dict[str, list[str]] = field(default_factory=dict)

    def __iter__(self) -> Iterator[tuple[str, list[str], list[str]]]:
        return ((name, self.drafts[name], self.running[name]) for name in sorted(self.drafts))


class CutOff(Exception):
    """Nobody answered: whether it was done is not known."""


class Refused(Exception):
    """It was answered that it was not done."""


class Served:
    """`grey-heron serve` on a folder, in a process of its own."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            self._port = free.getsockname()[1]
        self._client = httpx2.Client(base_url=f"http://127.0.0.1:{self._port}", timeout=PATIENCE)
        self.start()

    def start(self) -> None:
        words = [
            "serve",
            "--no-open",
            "--workers",
            "0",
            "--port",
            str(self._port),
            "--data",
            str(self.folder),
        ]
        self.process = subprocess.Popen(
            [sys.executable, "-m", "greyheron", *words],
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            stdin=subprocess.DEVNULL,
        )
        end = time.monotonic() + PATIENCE
        while time.monotonic() < end:
            try:
                self._client.get("/health")
                return
            except httpx2.TransportError:
                if self.process.poll() is not None:
                    raise RuntimeError(f"the server ended with {self.process.returncode}") from None
                time.sleep(0.02)
        raise RuntimeError("the server does not answer")

    def end(self, how: signal.Signals) -> None:
        if self.process.poll() is None:
            self.process.send_signal(how)
            self.process.wait()

    def close(self) -> None:
        self.end(signal.SIGKILL)
        self._client.close()

    def ask(self, method: str, path: str, **more: Any) -> Any:
        try:
            answer = self._client.request(method, path, **more)
        except httpx2.TransportError as error:
            raise CutOff(str(error)) from None
        if answer.status_code >= 400:
            if answer.status_code == 500:
                raise RuntimeError(f"an error of ours: {answer.text}")
            raise Refused(answer.text)
        kind = answer.headers.get("content-type", "")
        return answer.json() if kind.startswith("application/json") else answer.content

    def known(self) -> Known:
        """What it says that there is."""
        found = Known()
        for each in self.ask("GET", "/api/networks"):
            for state, into in (("draft", found.drafts), ("running", found.running)):
                file = self.ask("GET", f"/api/networks/{each['id']}/file", params={"state": state})
                statements = (one.statement for one in read_workspace(file).requirements)
                into[each["id"]] = [write_requirement(one) for one in statements]
        return found

    def version(self, network: str) -> dict[str, str]:
        version = next(each["version"] for each in self.ask("GET", "/api/networks") if each["id"] == network)
        return {"If-Match": f'"{version}"'}


class Sequence:
    """Random steps, each with what has to be so after it."""

    def __init__(self, chance: Random, folder: Path) -> None:
        self._chance, self._folder = chance, folder
        self._data = folder / "data"
        self._served = Served(self._data)
        self._sure = Known()
        self._backups: list[tuple[Path, Known]] = []
        self._number = 0
        self.done: Counter[str] = Counter()

    def run(self, steps: int) -> None:
        often = [self._edit, self._edit, self._killed]
        every = [*often, self._edit, self._killed, self._apply, self._import, self._back_up, self._restore]
        every += [self._again, self._moved, self._without_room]
        try:
            self._import()
            for _ in range(steps):
                step = self._chance.choice(every)
                self.done[step.__name__.strip("_")] += 1
                step()
                self._check()
        finally:
            self._served.close()

    def _check(self, *also: Known) -> None:
        """What is there is what was acknowledged, or `also` may be there."""
        found = self._served.known()
        for each in (self._sure, *also):
            if [*found] == [*each]:
                self._sure = found
                return
        raise AssertionError(f"there is {[*found]}, and not {[*self._sure]} nor {[[*each] for each in also]}")

    def _one(self) -> str:
        return self._chance.choice(sorted(self._sure.drafts))

    def _editing(self) -> tuple[Known, Callable[[], Any]]:
        """An edit: what is there then, and how to ask for it."""
        name, after = self._one(), copy.deepcopy(self._sure)
        self._number += 1
        statement = f"block kiosk → ledger tcp/{10_000 + self._number}"
        after.drafts[name].append(statement)
        headers = self._served.version(name)
        body = {"do": "require", "statement": statement}
        path = f"/api/networks/{name}/draft/intents"
        return after, lambda: self._served.ask("POST", path, headers=headers, json=body)

    def _applying(self) -> tuple[Known, Callable[[], Any]]:
        name, after = self._one(), copy.deepcopy(self._sure)
        after.running[name] = list(after.drafts[name])
        headers = self._served.version(name)
        path = f"/api/networks/{name}/draft/apply"
        return after, lambda: self._served.ask("POST", path, headers=headers, json={})

    def _edit(self) -> None:
        after, ask = self._editing()
        ask()
        self._sure = after

    def _apply(self) -> None:
        after, ask = self._applying()
        try:
            ask()
        except Refused:
            return  # there is nothing to apply
        self._sure = after

    def _import(self) -> None:
        job = self._served.ask("POST", "/api/networks/import", content=FILE)
        while job["result"] is None:
            job = self._served.ask("GET", f"/api/jobs/{job['id']}")
        made = job["result"]["id"]
        found = self._served.known()
        self._sure.drafts[made], self._sure.running[made] = found.drafts[made], found.running[made]

    def _command(self, *words: str) -> int:
        command = [sys.executable, "-m", "greyheron", *words, "--data", str(self._data)]
        return subprocess.run(command, capture_output=True, check=False).returncode

    def _back_up(self) -> None:
        copied = self._folder / f"backup-{len(self._backups)}.db"
        assert self._command("backup", str(copied)) == 0
        assert self._command("backup", str(self._data / "networks.db")) != 0
        self._backups.append((copied, copy.deepcopy(self._sure)))

    def _restore(self) -> None:
        """Under a running server, or while it is ended."""
        if not self._backups:
            return
        copied, then = self._chance.choice(self._backups)
        ended = self._chance.random() < 0.3
        if ended:
            self._served.end(signal.SIGTERM)
        if self._command("restore", str(copied)) == 0:  # two within one second: the second is refused
            self._sure = copy.deepcopy(then)
        if ended:
            self._served.start()

    def _killed(self) -> None:
        """In the middle of something, or of nothing."""
        after, ask = self._chance.choice([self._editing, self._applying])()
        with ThreadPoolExecutor(1) as beside:
            asked = beside.submit(ask)
            time.sleep(self._chance.choice((0, 0.001, 0.003, 0.01, 0.03)))
            self._served.end(signal.SIGKILL)
            try:
                asked.result()
                sure = True
            except (CutOff, Refused) as error:
                sure = False
                after = self._sure if isinstance(error, Refused) else after
        self._served.start()
        if sure:
            self._sure = after
            return
        self._check(after)

    def _again(self) -> None:
        self._served.end(signal.SIGTERM)
        self._served.start()

    def _moved(self) -> None:
        elsewhere = self._folder / "elsewhere"
        _, ask = self._editing()
        shutil.move(self._data, elsewhere)
        try:
            ask()
            raise AssertionError("an edit was acknowledged that has no place")
        except Refused:
            pass
        finally:
            shutil.move(elsewhere, self._data)

    def _without_room(self) -> None:
        """No file may grow: as on a full disk."""
        after, ask = self._editing()
        pid = self._served.process.pid
        resource.prlimit(pid, resource.RLIMIT_FSIZE, (1, resource.RLIM_INFINITY))
        try:
            ask()
            self._sure = after
        except Refused:
            pass
        finally:
            resource.prlimit(pid, resource.RLIMIT_FSIZE, (resource.RLIM_INFINITY, resource.RLIM_INFINITY))
