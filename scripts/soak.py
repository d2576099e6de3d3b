"""A day's work in fast motion: a server is edited and asked again and again, and its memory is watched.

python scripts/soak.py [--edits 500] [--routers 0] [--ask-every 8] [--check-every 500] [--limit MIB]

Entries, placements, undo and apply, at random. Whatever a workbench asks for is asked: the book, traces,
proofs, findings, reach, advice. At checks the draft must be what its patches made of it, and answer as a
network does that is made of its file and was never edited. Prints the resident memory as it goes. With
--limit the run fails if memory has grown by more than that after its first tenth.
"""

import argparse
import json
import random
import socket
import subprocess
import sys
import tempfile
import time
from dataclasses import dataclass
from itertools import zip_longest
from typing import Any

import httpx2
import psutil

ADVISED = 8
"""Advice is asked for at each of so many rounds of questions: it takes longest."""
APPLIED = 0.02
"""Of a hundred edits so many are followed by putting the draft in force."""
REACH = {"services": ["services", "ping"], "family": "ipv4"}


class Client:
    """The requests of a workbench to a server on this machine, one after another."""

    def __init__(self, port: int) -> None:
        self._http = httpx2.Client(base_url=f"http://127.0.0.1:{port}/api", timeout=600)

    def ask(
        self,
        path: str,
        body: Any = None,
        version: int | None = None,
        method: str = "POST",
        media: str = "application/json",
    ) -> Any:
        """What is answered, as JSON or as it is. Raises RuntimeError for a refusal."""
        headers = {"Content-Type": media, "Prefer": "return=minimal"}
        if version is not None:
            headers["If-Match"] = f'"{version}"'
        content = body if isinstance(body, bytes) else None if body is None else json.dumps(body)
        response = self._http.request(method, path, content=content, headers=headers)
        if response.is_error:
            raise RuntimeError(f"{method} {path}: {response.status_code} {response.text}")
        is_json = bool(response.content) and response.headers["Content-Type"] == "application/json"
        return response.json() if is_json else response.content

    def get(self, path: str) -> Any:
        return self.ask(path, method="GET")

    def work(self, path: str, body: Any = None, media: str = "application/json") -> Any:
        """Ask for something that takes long, wait for it, and give what came of it."""
        told = self.ask(path, body, media=media)
        while told["done"] < 1:
            time.sleep(0.05)
            told = self.get(f"/jobs/{told['id']}")
        return told["result"]


@dataclass
class Edited:
    """A network as a workbench knows it: its draft as the patches made it."""

    client: Client
    chance: random.Random
    id: str
    version: int
    draft: dict[str, Any]
    placements: list[dict[str, Any]]
    """Those that are taken away and put back."""
    undoable: bool = False
    changed: bool = False
    """Whether anything differs from what is running."""

    @property
    def at(self) -> str:
        return f"/networks/{self.id}"

    def edit(self) -> None:
        """One edit at random, and sometimes the draft put in force behind it."""
        kind = self.chance.choice(("entry", "entry", "entry", "placement", "undo"))
        if kind == "undo" and self.undoable:
            self._write("undo")
        elif kind == "placement":
            self._change("placements", *self._other_placement())
        else:
            access_list = self._other_list()
            self._change("lists", access_list["name"], access_list)
        if self.changed and self.chance.random() < APPLIED:
            self._write("apply", {"note": "in fast motion"})

    def _other_list(self) -> dict[str, Any]:
        """Another entry in front of one list, in place of the one put there before."""
        lists = self.draft["lists"]
        found = [each for each in lists if each["family"] == "ipv4" and each["kind"] == "extended"]
        access_list = dict(self.chance.choice(found))
        lines = [line for line in access_list["entries"].splitlines() if not line.startswith("1 ")]
        access_list["entries"] = "\n".join([entry(self.chance, 1), *lines])
        return access_list

    def _other_placement(self) -> tuple[str, dict[str, Any] | None]:
        """A placement taken away, or put back if it is not there."""
        item = self.chance.choice(self.placements)
        key = ":".join(item[each] for each in ("device", "at", "direction", "list"))
        return key, None if item in self.draft["placements"] else item

    def _change(self, collection: str, key: str, item: dict[str, Any] | None) -> None:
        change = {"collection": collection, "key": key, "item": item}
        self._write("edits", {"label": f"edit {key}", "changes": [change]})

    def _write(self, what: str, body: Any = None) -> None:
        patch = self.client.ask(f"{self.at}/draft/{what}", body, self.version)
        self.version = patch["version"]
        self.undoable, self.changed = patch["undo"] is not None, bool(patch["changes"])
        if "base" not in patch:
            self.draft = patch["draft"]
            return
        self.draft.update(patch["draft"]["fields"])
        for name, runs in patch["draft"]["collections"].items():
            own = self.draft[name]
            fresh = [own[run[0] : run[1]] if isinstance(run, list) else [run] for run in runs]
            self.draft[name] = [item for run in fresh for item in run]

    def question(self, advised: bool) -> None:
        """Whatever a workbench asks for."""
        self.client.get(f"{self.at}/book")
        tests = self.draft["tests"]
        if tests:
            flow = self.chance.choice(tests)["flow"].rsplit(" ", 1)[0]
            for state in ("baseline", "running", "draft"):
                self.client.ask(f"{self.at}/trace", {"flow": flow, "state": state})
        for path, body in (("policy", None), ("findings", None), ("reach", REACH)):
            self.client.work(f"{self.at}/{path}", body)
        if advised and self.draft["requirements"]:
            statement = self.chance.choice(self.draft["requirements"])["statement"]
            self.client.work(f"{self.at}/advice", {"text": statement})

    def wrong(self) -> list[str]:
        """What is not as it is in a network that is made of the draft's file."""
        whole = self.client.get(self.at)
        file = self.client.get(f"{self.at}/file")
        ready = self.client.work("/networks/import", file, "application/yaml")
        fresh = Edited(self.client, self.chance, ready["id"], ready["version"], {}, [])
        wrong = [] if whole["draft"] == self.draft else ["what the patches made of the draft"]
        own, other = self.answers(), fresh.answers()
        self.client.ask(fresh.at, method="DELETE", version=fresh.version)
        for name in own:
            parts = zip_longest(own[name], other[name])
            wrong += [f"{name}: {mine} instead of {right}" for mine, right in parts if mine != right][:1]
        return wrong

    def answers(self) -> dict[str, Any]:
        """What is said of the draft, without what is said of what is running."""
        book = self.client.get(f"{self.at}/book")["tests"]
        policy = self.client.work(f"{self.at}/policy")["requirements"]
        return {
            "the book": [(each["id"], each["baseline"], each["draft"]) for each in book],
            "the policy": [(each["id"], each["baseline"], each["draft"]) for each in policy],
            "findings": self.client.work(f"{self.at}/findings")["findings"],
            "reach": self.client.work(f"{self.at}/reach", REACH)["draft"],
        }


def _memory(server: psutil.Process) -> int:
    """Bytes of the server and of its workers."""
    return sum(int(each.memory_info().rss) for each in (server, *server.children(recursive=True)))


def free_port() -> int:
    with socket.socket() as one:
        one.bind(("127.0.0.1", 0))
        return int(one.getsockname()[1])


def entry(chance: random.Random, number: int) -> str:
    action = chance.choice(["permit", "deny"])
    sides = [
        f"172.20.{chance.randrange(64)}.{chance.randrange(255)}/{chance.choice([24, 28, 32])}"
        for _ in range(2)
    ]
    low = chance.randrange(1, 60000)
    first, last = (f"{side.rsplit('/', 1)[0]}" for side in sides)
    return f"{number} {action} tcp from {first} to {last} port {low}-{low + chance.randrange(900)}"


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--edits", type=int, default=500)
    parser.add_argument("--routers", type=int, default=0, help="a generated network instead of the demo")
    parser.add_argument("--ask-every", type=int, default=8, help="edits between two rounds of questions")
    parser.add_argument("--check-every", type=int, default=500, help="edits between two checks of answers")
    parser.add_argument("--limit", type=float, help="MiB that memory may grow by after the first tenth")
    asked = parser.parse_args()
    chance, port, wrong = random.Random(1), free_port(), 0
    memory: list[float] = []
    with tempfile.TemporaryDirectory() as folder:
        command = [sys.executable, "-m", "greyheron", "serve", "--no-open"]
        command += ["--port", str(port), "--data", folder]
        server = subprocess.Popen(command, stdout=subprocess.PIPE)
        try:
            assert server.stdout is not None
            server.stdout.readline()
            process = psutil.Process(server.pid)
            network = opened(Client(port), chance, asked.routers)
            for turn in range(asked.edits):
                network.edit()
                if turn % asked.ask_every == 0:
                    network.question(turn % (asked.ask_every * ADVISED) == 0)
                if turn % asked.check_every == asked.check_every - 1:
                    found = network.wrong()
                    wrong += bool(found)
                    print(f"{turn + 1:6} edits: {', '.join(found) or 'all answers right'}", flush=True)
                memory.append(_memory(process) / 2**20 if turn % asked.ask_every == 0 else memory[-1])
                if turn % max(asked.edits // 20, 1) == 0 or turn == asked.edits - 1:
                    print(f"{turn + 1:6} edits {memory[-1]:8.1f} MiB", flush=True)
        finally:
            server.terminate()
            server.wait()
    tenth = len(memory) // 10
    grown = memory[-1] - memory[tenth]
    each = 1024 * grown / (len(memory) - tenth)
    print(f"grown by {grown:.1f} MiB after the first tenth: {each:.1f} KiB an edit; {wrong} checks failed")
    return int(wrong > 0 or (asked.limit is not None and grown > asked.limit))


def opened(client: Client, chance: random.Random, routers: int) -> Edited:
    """A network to edit: the demo, or a generated one."""
    if routers:
        command = [sys.executable, "-m", "greyheron", "generate", "--routers", str(routers)]
        file = subprocess.run(command, check=True, capture_output=True).stdout
        made = client.get(f"/networks/{client.work('/networks/import', file, 'application/yaml')['id']}")
    else:
        made = client.ask("/networks/demo")
    draft = made["draft"]
    return Edited(client, chance, made["id"], made["version"], draft, draft["placements"])


if __name__ == "__main__":
    sys.exit(main())
