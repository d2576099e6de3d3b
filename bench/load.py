"""How long a light request takes while four windows prove, advise, search and work reach out.

python bench/load.py [ROUTERS [SECONDS]]
"""

import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from multiprocessing import Event, Process
from multiprocessing.synchronize import Event as OverEvent
from typing import Any

import httpx2
import numpy as np

from greyheron.demo.generator import Plan, generate
from greyheron.formats.workspace import write_workspace

ASKED: tuple[tuple[str, Any], ...] = (
    ("policy", None),
    ("findings", None),
    ("advice", {"text": "block segment:r1:eth0 → h9 tcp/443"}),
    ("reach", {"services": ["services", "ping"], "family": "ipv4"}),
)
LIGHT = "/api/networks"


@contextmanager
def serving(workers: int) -> Iterator[str]:
    """A server of its own, and its address."""
    with socket.socket() as free, tempfile.TemporaryDirectory() as folder:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
        free.close()
        command = [sys.executable, "-m", "greyheron", "serve", "--no-open", "--data", folder]
        command += ["--port", str(port), "--workers", str(workers)]
        process = subprocess.Popen(command, stdout=subprocess.DEVNULL)
        address = f"http://127.0.0.1:{port}"
        try:
            with httpx2.Client() as client:
                while True:
                    try:
                        client.get(f"{address}{LIGHT}")
                        break
                    except httpx2.TransportError:
                        time.sleep(0.05)
            yield address
        finally:
            process.terminate()
            process.wait()


def window(address: str, network: str, number: int, over: OverEvent) -> None:
    """Somebody who edits, and asks for one thing again and again."""
    what, body = ASKED[number]
    with httpx2.Client(base_url=address, timeout=600) as client:
        whole = client.get(f"/api/networks/{network}").json()
        version, item = whole["version"], whole["draft"]["lists"][number]
        while not over.is_set():
            answer = client.post(f"/api/networks/{network}/{what}", json=body).json()
            while answer.get("result") is None and "id" in answer and not over.is_set():
                time.sleep(0.1)
                answer = client.get(f"/api/jobs/{answer['id']}").json()
            version = edit(client, network, version, item)


def edit(client: httpx2.Client, network: str, version: int, item: dict[str, Any]) -> int:
    """Something else in a list, so that what is asked is asked anew, sent as a workbench sends it."""
    first, *others = item["entries"].splitlines()
    number, said = first.split(" ", 1)
    item["entries"] = "\n".join([*others, said if number.isdigit() else first])
    change = {"collection": "lists", "key": item["name"], "item": item}
    answer = client.post(
        f"/api/networks/{network}/draft/edits",
        json={"label": "bench", "changes": [change]},
        headers={"If-Match": f'"{version}"', "Prefer": "return=minimal"},
    )
    return int(answer.raise_for_status().json()["version"])


def waits(workers: int, routers: int, seconds: float) -> tuple[list[float], int]:
    """Milliseconds that light requests took, and how many versions the windows came to."""
    with serving(workers) as address, httpx2.Client(base_url=address, timeout=600) as client:
        text = write_workspace(generate(Plan(routers, routers, 200, 7)))
        names = []
        for _ in ASKED:
            answer = client.post("/api/networks/import", content=text.encode()).raise_for_status().json()
            while answer["result"] is None:
                time.sleep(0.1)
                answer = client.get(f"/api/jobs/{answer['id']}").raise_for_status().json()
            names.append(answer["result"]["id"])
        over = Event()
        windows = [
            Process(target=window, args=(address, name, number, over), daemon=True)
            for number, name in enumerate(names)
        ]
        for each in windows:
            each.start()
        found, end = [], time.monotonic() + seconds
        while time.monotonic() < end:
            began = time.perf_counter()
            client.get(LIGHT).raise_for_status()
            found.append(1000 * (time.perf_counter() - began))
            time.sleep(0.02)
        over.set()
        versions = sum(each["version"] for each in client.get(LIGHT).json())
        for each in windows:
            each.join()
    return found, versions


def main() -> None:
    routers, seconds = (int(each) for each in (sys.argv[1:] + ["50", "30"][len(sys.argv) - 1 :]))
    for workers in (0, 2):
        found, versions = waits(workers, routers, seconds)
        middle, late, last = np.percentile(found, (50, 99, 100))
        print(
            f"{workers} workers, {routers} routers, {len(found)} light requests beside four windows: "
            f"median {middle:.1f} ms, 99th percentile {late:.1f} ms, longest {last:.1f} ms; "
            f"{versions} versions made"
        )


if __name__ == "__main__":
    main()
