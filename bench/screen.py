"""What the screen costs at size, in headless Chromium: `python bench/screen.py [ROUTERS …]`.

For each size a network is generated, put in a server of its own, and looked at as people do: opened, zoomed
and panned over the map, the matrix scrolled, a list of 10,000 entries opened, scrolled and typed in. A frame
is the time between two of the browser's own; one that takes longer than 50 ms is felt.
"""

import json
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import numpy as np
from playwright.sync_api import Page, sync_playwright
from rich.console import Console
from rich.table import Table
from tests.browser.conftest import QUIET, SCROLLBARS, Server, make_of

from greyheron.demo.generator import Plan, generate
from greyheron.formats.workspace import write_workspace
from greyheron.model.document import Network

SIZES = (50, 250, 1000)
ENTRIES = 10_000
GROUP = 10
WATCH = """() => {
  window.frames_ = [];
  let last = performance.now();
  const next = (now) => {
    window.frames_.push(now - last);
    last = now;
    window.watching_ = requestAnimationFrame(next);
  };
  window.watching_ = requestAnimationFrame(next);
}"""
SEEN = "() => { cancelAnimationFrame(window.watching_); return window.frames_; }"


def network_of(routers: int) -> Network:
    """A generated network with one list of very many entries."""
    network = generate(Plan(routers=routers, lists=routers, entries=40, seed=1))
    longest = generate(Plan(routers=2, lists=1, entries=ENTRIES, seed=2)).lists[0]
    return network.model_copy(
        update={"lists": (*network.lists, longest.model_copy(update={"name": "longest"}))}
    )


@contextmanager
def opened(network: Network) -> Iterator[tuple[Page, float]]:
    """A page with the network, and how many seconds it took until its map was there."""
    with tempfile.TemporaryDirectory() as folder, sync_playwright() as driver:
        file = Path(folder) / "network.yaml"
        file.write_text(write_workspace(network))
        server = Server(Path(folder) / "data")
        browser = driver.chromium.launch(
            executable_path="/usr/bin/chromium-headless-shell", args=QUIET, ignore_default_args=SCROLLBARS
        )
        try:
            page = browser.new_page(viewport={"width": 1280, "height": 800})
            page.set_default_timeout(120_000)
            page.goto(server.address)
            began = time.perf_counter()
            make_of(page, file)
            page.locator("svg[aria-busy=false]").wait_for()
            yield page, time.perf_counter() - began
        finally:
            browser.close()
            server.stop()


def frames(page: Page, act: Callable[[], None]) -> tuple[float, float]:
    """The median and the 95th percentile of frames while something is done, in milliseconds."""
    page.evaluate(WATCH)
    act()
    seen = np.array(page.evaluate(SEEN))
    return float(np.median(seen)), float(np.percentile(seen, 95))


def matrix_of(network: Network) -> str:
    """The answer to what reach is asked for, invented: what is measured is how it is drawn."""
    names = [device.name for device in network.devices]
    verdicts = np.random.default_rng(1).choice([1, 2, 4, 8, 3, 16], (2, len(names), len(names)))
    running, draft = ([row.tobytes().decode() for row in (48 + each).astype(np.uint8)] for each in verdicts)
    groups = [
        {
            "kind": "segment",
            "name": f"segment {first}",
            "members": list(range(first, min(first + GROUP, len(names)))),
        }
        for first in range(0, len(names), GROUP)
    ]
    matrix = {"version": 1, "devices": names, "groups": groups, "running": running, "draft": draft}
    return json.dumps({"id": "bench", "done": 1, "stage": "", "result": matrix})


def unfolded(page: Page, lines: int) -> float:
    """Seconds until the matrix is there with all its devices."""
    page.locator("[role=gridcell]").first.wait_for()
    began = time.perf_counter()
    page.get_by_role("button", name="Matrix ▾").click()
    page.get_by_role("menuitem", name="Unfold all groups").click()
    page.locator(f"[role=grid][aria-rowcount='{lines + 1}']").wait_for()
    return time.perf_counter() - began


def zoomed(page: Page) -> None:
    page.mouse.move(500, 400)
    for step in (-120, 120):
        for _ in range(20):
            page.mouse.wheel(0, step)
            page.wait_for_timeout(30)


def panned(page: Page) -> None:
    page.mouse.move(600, 300)
    page.mouse.down()
    for step in range(40):
        page.mouse.move(600 - 12 * step, 300 + 5 * step)
        page.wait_for_timeout(20)
    page.mouse.up()


def scrolled(page: Page) -> None:
    page.mouse.move(700, 500)
    for _ in range(40):
        page.mouse.wheel(160, 240)
        page.wait_for_timeout(20)


def typed(page: Page) -> float:
    """Milliseconds from a key to the frame in which it is there, the median of some."""
    taken = []
    for _ in range(8):
        began = time.perf_counter()
        page.keyboard.type("1")
        page.evaluate("() => new Promise((done) => requestAnimationFrame(() => done()))")
        taken.append((time.perf_counter() - began) * 1000)
    return float(np.median(taken))


def measured(routers: int) -> dict[str, str]:
    network = network_of(routers)
    found = {"devices": f"{len(network.devices):,}"}

    def put(name: str, told: tuple[float, float]) -> None:
        found[name] = f"{told[0]:.0f} / {told[1]:.0f} ms"

    with opened(network) as (page, seconds):
        found["from the file to the map"] = f"{seconds:.1f} s"
        put("map, zoomed", frames(page, lambda: zoomed(page)))
        for _ in range(6):
            page.get_by_role("button", name="Zoom in").click()
        put("map, panned near", frames(page, lambda: panned(page)))
        answer = matrix_of(network)
        lines = len(network.devices) + -(-len(network.devices) // GROUP)
        page.route(
            "**/api/networks/*/reach",
            lambda route: route.fulfill(body=answer, content_type="application/json"),
        )
        page.goto(page.url.replace("/map", "/reach"))
        found["matrix, unfolded"] = f"{unfolded(page, lines):.1f} s"
        put("matrix, scrolled", frames(page, lambda: scrolled(page)))
        page.goto(page.url.replace("/reach", "/lists?list=longest"))
        page.locator(".cm-line").first.wait_for()
        put("list of 10,000 entries, scrolled", frames(page, lambda: scrolled(page)))
        page.locator(".cm-line").nth(5).click()
        found["key in it to the frame"] = f"{typed(page):.0f} ms"
    return found


def main() -> None:
    sizes = [int(each) for each in sys.argv[1:]] or SIZES
    table = Table(title="frames while it is done: median / 95th percentile")
    table.add_column("")
    columns = [measured(size) for size in sizes]
    for size in sizes:
        table.add_column(f"{size} routers", justify="right")
    for name in columns[0]:
        table.add_row(name, *(column[name] for column in columns))
    Console(width=110).print(table)


if __name__ == "__main__":
    main()
