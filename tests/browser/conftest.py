"""The real interface: the built workbench, a server of its own for each test, and headless Chromium."""

import os
import re
import shutil
import signal
import socket
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import httpx2
import pytest
from playwright.sync_api import (
    Browser,
    BrowserContext,
    ConsoleMessage,
    Page,
    Response,
    expect,
    sync_playwright,
)

ROOT = Path(__file__).parents[2]
BUILT = ROOT / "src" / "greyheron" / "workbench"
QUIET = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]
SCROLLBARS = ["--hide-scrollbars"]
"""The driver hides them unless told not to; nobody who works here has them hidden."""
PATIENCE = 90_000
"""Milliseconds, and ample: with both cores loaded from outside, advice took over 30 s."""
expect.set_options(timeout=PATIENCE)


class Server:
    """`grey-heron serve` in a process of its own, that can be killed and started again on its data."""

    def __init__(self, data: Path, token: str = "") -> None:
        """told:  the file that has what it printed"""
        self._data, self._token = data, token
        self.told = data.with_name(f"{data.name}-told")
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            self._port = free.getsockname()[1]
        self.address = f"http://127.0.0.1:{self._port}"
        self.start()

    def start(self) -> None:
        command = [sys.executable, "-m", "greyheron", "serve", "--demo", "--no-open"]
        command += ["--port", str(self._port), "--data", str(self._data)]
        environment = os.environ | ({"GREY_HERON_TOKEN": self._token} if self._token else {})
        with self.told.open("wb") as told:
            self._process = subprocess.Popen(command, stdout=told, env=environment)
        with httpx2.Client(transport=httpx2.HTTPTransport(retries=0)) as client:
            while self._process.poll() is None:
                try:
                    client.get(f"{self.address}/api/networks")
                    return
                except httpx2.TransportError:
                    continue
        raise RuntimeError("the server did not start")

    def kill(self) -> None:
        os.kill(self._process.pid, signal.SIGKILL)
        self._process.wait()

    def stop(self) -> None:
        if self._process.poll() is None:
            self._process.terminate()
            self._process.wait()


_TAKEN_AWAY = """async () => {
  const path = `/api/networks/${location.pathname.split("/")[2]}`;
  const { version, draft } = await (await fetch(path)).json();
  const keyOf = ({ device, at, direction, list }) => [device, at, direction, list].join(":");
  const changes = [
    ...draft.placements.map((each) => ({ collection: "placements", key: keyOf(each) })),
    ...draft.lists.map(({ name }) => ({ collection: "lists", key: name })),
  ];
  const headers = { "content-type": "application/json", "if-match": `"${version}"` };
  const body = JSON.stringify({ label: "take all lists away", changes });
  return (await fetch(`${path}/draft/edits`, { method: "POST", headers, body })).status;
}"""


def take_all_lists_away(page: Page) -> None:
    """Leave the draft of the network that is open without lists, as another window would."""
    assert page.evaluate(_TAKEN_AWAY) == 200
    page.reload()


def bring_in(page: Page, *files: Path) -> None:
    """Bring files in from the page of all networks, as far as the look before anything is made."""
    page.get_by_role("button", name="Bring in…").click()
    page.get_by_role("region", name="Files to bring in").locator("input").set_input_files(
        [str(file) for file in files]
    )


def make_of(page: Page, *files: Path) -> None:
    """Bring files in, and make a network of them."""
    bring_in(page, *files)
    page.get_by_role("button", name="Make this network").click()


@pytest.fixture(scope="session")
def started(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Server]:
    running = Server(tmp_path_factory.mktemp("data"))
    yield running
    running.stop()


@pytest.fixture
def server(started: Server) -> Server:
    """A server that has the demo as it ships, and nothing else."""
    with httpx2.Client(base_url=f"{started.address}/api") as api:
        while networks := api.get("/networks").json():  # an edit of a page just closed may still come in
            for network in networks:
                match = {"If-Match": f'"{network["version"]}"'}
                api.delete(f"/networks/{network['id']}", headers=match)
        api.post("/networks/demo").raise_for_status()
    return started


@pytest.fixture(scope="session")
def browser() -> Iterator[Browser]:
    chromium = shutil.which("chromium-headless-shell")
    assert chromium, "Chromium’s headless shell is missing: `make test` installs it"
    assert (BUILT / "index.html").is_file(), (
        "the workbench is not built: run `make src/greyheron/workbench/index.html`"
    )
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(
            executable_path=chromium, args=QUIET, ignore_default_args=SCROLLBARS
        )
        yield browser
        browser.close()


def window_of(browser: Browser, width: int = 1280, height: int = 800) -> BrowserContext:
    """A window of its own, with the patience that everything here has."""
    context = browser.new_context(viewport={"width": width, "height": height})
    context.set_default_timeout(PATIENCE)
    return context


def tell_refusal(answer: Response) -> None:
    if answer.status >= 400:
        print(answer.status, answer.url)


@pytest.fixture
def page(browser: Browser, server: Server) -> Iterator[Page]:
    """The demo, open in the workbench. Errors in the console fail the test.

    What a failed test leaves on screen is told last, where a shortened report still has it.
    """
    context = window_of(browser)
    page = context.new_page()
    complaints: list[str] = []
    page.on("response", tell_refusal)

    def listen(message: ConsoleMessage) -> None:
        refused = "Failed to load resource" in message.text  # an answer such as 412 that the page deals with
        if message.type == "error" and not refused:
            complaints.append(f"{message.text} ({message.location})")

    page.on("console", listen)
    page.on("pageerror", lambda error: complaints.append(str(error)))
    open_demo(page, server)
    yield page
    print(page.url, page.get_by_role("alert").all_inner_texts())
    context.close()
    assert complaints == []


def open_demo(page: Page, server: Server) -> None:
    page.goto(server.address)
    # The page has all its parts, and nothing moves under the pointer any more.
    expect(page.get_by_role("button", name="More for Saltmarsh reserve")).to_be_visible()
    page.get_by_role("button", name=re.compile("^Saltmarsh reserve")).click()
    expect(page.get_by_test_id("book-summary")).to_contain_text("26 flows")
