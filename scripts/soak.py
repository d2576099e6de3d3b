"""A day's work in fast motion: a server is edited and asked again and again, and its memory is watched.

python scripts/soak.py [--edits 500] [--routers 0] [--limit MIB]

Prints the resident memory as it goes. With --limit the run fails if, after its first third, memory has grown
by more than that. Whatever a workbench asks for is asked: the book, traces, proofs, findings, reach, advice.
"""

import argparse
import json
import random
import socket
import subprocess
import sys
import tempfile
import time
import urllib.request
from typing import Any

import psutil

ASKED_EVERY = 8
"""Edits between two questions that take long."""


class Client:
    """The requests of a workbench to a server on this machine."""

    def __init__(self, port: int) -> None:
        self._base = f"http://127.0.0.1:{port}/api"

    def ask(self, path: str, body: Any = None, version: int | None = None, method: str | None = None) -> Any:
        headers = {"Content-Type": "application/json"}
        if version is not None:
            headers["If-Match"] = f'"{version}"'
        data = None if body is None else json.dumps(body).encode()
        request = urllib.request.Request(self._base + path, data, headers, method=method)
        with urllib.request.urlopen(request, timeout=600) as response:
            return json.load(response)

    def work(self, path: str, body: Any = None) -> Any:
        """Ask for something that takes long, and wait for it."""
        return self.done(self.ask(path, body, method="POST"))

    def done(self, told: Any) -> Any:
        while told["done"] < 1:
            time.sleep(0.05)
            told = self.ask(f"/jobs/{told['id']}")
        return told


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


def one_edit(client: Client, network: dict[str, Any], chance: random.Random) -> dict[str, Any]:
    """Another entry in front of one list, in place of the one put there before."""
    ipv4 = [each for each in network["draft"]["lists"] if each["family"] == "ipv4"]
    access_list = dict(chance.choice([each for each in ipv4 if each["kind"] == "extended"]))
    lines = [line for line in access_list["entries"].splitlines() if not line.startswith("1 ")]
    access_list["entries"] = "\n".join([entry(chance, 1), *lines])
    change = {"collection": "lists", "key": access_list["name"], "item": access_list}
    edit = {"label": f"edit {access_list['name']}", "changes": [change]}
    path = f"/networks/{network['id']}/draft/edits"
    found: dict[str, Any] = client.ask(path, edit, network["version"])
    return found


def questions(client: Client, network: dict[str, Any], turn: int, chance: random.Random) -> None:
    at = f"/networks/{network['id']}"
    client.ask(f"{at}/book")
    tests = network["draft"]["tests"]
    if tests:
        flow = chance.choice(tests)["flow"].rsplit(" ", 1)[0]
        for state in ("baseline", "running", "draft"):
            client.ask(f"{at}/trace", {"flow": flow, "state": state})
    if turn % ASKED_EVERY == 0:
        client.work(f"{at}/policy")
        client.work(f"{at}/findings")
        client.work(f"{at}/reach", {"services": ["services", "ping"], "family": "ipv4"})
    if turn % (ASKED_EVERY * 8) == 0 and network["draft"]["requirements"]:
        statement = chance.choice(network["draft"]["requirements"])["statement"]
        client.work(f"{at}/advice", {"text": statement})


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--edits", type=int, default=500)
    parser.add_argument("--routers", type=int, default=0, help="a generated network instead of the demo")
    parser.add_argument("--limit", type=float, help="MiB that memory may grow by after the first third")
    asked = parser.parse_args()
    chance, port, memory = random.Random(1), free_port(), []
    with tempfile.TemporaryDirectory() as folder:
        command = [
            sys.executable,
            "-m",
            "greyheron",
            "serve",
            "--port",
            str(port),
            "--data",
            folder,
            "--no-open",
        ]
        server = subprocess.Popen(command, stdout=subprocess.PIPE)
        try:
            assert server.stdout is not None
            server.stdout.readline()
            client, process = Client(port), psutil.Process(server.pid)
            network = opened(client, asked.routers)
            for turn in range(asked.edits):
                network = one_edit(client, network, chance)
                questions(client, network, turn, chance)
                memory.append(_memory(process) / 2**20)
                if turn % max(asked.edits // 20, 1) == 0 or turn == asked.edits - 1:
                    print(f"{turn:6} edits {memory[-1]:8.1f} MiB", flush=True)
        finally:
            server.terminate()
            server.wait()
    grown = memory[-1] - memory[len(memory) // 3]
    each = 1024 * grown / (len(memory) * 2 / 3)
    print(f"grown by {grown:.1f} MiB after the first third: {each:.0f} KiB an edit")
    return int(asked.limit is not None and grown > asked.limit)


def opened(client: Client, routers: int) -> dict[str, Any]:
    for _ in range(200):
        try:
            client.ask("/networks")
            break
        except OSError:
            time.sleep(0.05)
    if not routers:
        demo: dict[str, Any] = client.ask("/networks/demo", method="POST")
        return demo
    command = [sys.executable, "-m", "greyheron", "generate", "--routers", str(routers)]
    file = subprocess.run(command, check=True, capture_output=True).stdout
    request = urllib.request.Request(
        f"{client._base}/networks/import", file, {"Content-Type": "application/yaml"}
    )
    with urllib.request.urlopen(request, timeout=600) as response:
        told = client.done(json.load(response))
    made: dict[str, Any] = client.ask(f"/networks/{told['result']['id']}")
    return made


if __name__ == "__main__":
    sys.exit(main())
