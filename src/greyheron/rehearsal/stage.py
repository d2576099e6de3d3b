"""The process that a rehearsal is: told a network on its input, it tells stages and the report on its output.

It is the first process of a namespace of its own: all it started ends with it, and it ends with its input.
"""

import json
import os
import resource
import subprocess
import sys
import threading
from pathlib import Path

from pydantic import TypeAdapter

from greyheron.formats.workspace import read_workspace
from greyheron.rehearsal.asking import Selection, asked_of
from greyheron.rehearsal.comparison import Rehearsal
from greyheron.rehearsal.kernel import Built, KernelError
from greyheron.rehearsal.packets import Captured
from greyheron.rehearsal.pcapng import write_captures
from greyheron.rehearsal.rehearse import rehearse
from greyheron.rehearsal.report import RehearsalReport, report_of

MOST_MEMORY = 4 << 30
MOST_FILES = 16_384
_GROUP = "frrvty"


def main() -> int:
    asked = json.loads(sys.stdin.readline())
    threading.Thread(target=_end_with_input, daemon=True).start()
    _bound(resource.RLIMIT_AS, MOST_MEMORY)
    _bound(resource.RLIMIT_NOFILE, MOST_FILES)
    try:
        captures = _opened(asked["captures"]) if asked["captures"] else None
        own_files()
        network = read_workspace(asked["network"])
        flows = asked_of(network, Selection(asked["tests"], asked["requirements"]))
        standing: list[Built] = []
        found = rehearse(
            network,
            flows,
            lambda stage, done: _tell({"stage": stage, "done": round(done, 3)}),
            leave=standing.append if asked["keep"] else Built.close,
        )
        if captures is not None:
            _write(found, captures)
        _tell({"report": json.loads(TypeAdapter(RehearsalReport).dump_json(report_of(found, network)))})
        for built in standing:
            _tell({"kept": {name: each.descriptor for name, each in built.namespaces.items()}})
            threading.Event().wait()
    except (KernelError, OSError, MemoryError) as error:
        _tell({"error": f"{error or 'there is not enough memory'}"})
        return 1
    return 0


def _bound(what: int, most: int) -> None:
    """No more than `most`, nor than was allowed already."""
    _, allowed = resource.getrlimit(what)
    bound = most if allowed == resource.RLIM_INFINITY else min(most, allowed)
    resource.setrlimit(what, (bound, bound))


def _opened(folder: str) -> Path:
    """A folder of the machine's, as it can be come to when others lie over it."""
    return Path(f"/proc/self/fd/{os.open(folder, os.O_RDONLY | os.O_DIRECTORY)}")


def _write(found: Rehearsal, folder: Path) -> None:
    """The packets of each test flow and of each requirement in a file of their own."""
    captured: dict[str, list[Captured]] = {}
    for tried in found.tried:
        asked = tried.sending.asked
        name = asked.test or f"requirement-{asked.requirement}"
        captured.setdefault(name, []).extend(tried.captured)
    for name, packets in captured.items():
        write_captures(folder / f"{name}.pcapng", packets)


def _tell(what: object) -> None:
    print(json.dumps(what), flush=True)


def _end_with_input() -> None:
    sys.stdin.read()
    os._exit(3)


def own_files() -> None:
    """What daemons write lies in memory of this process's own, and root here belongs to their group."""
    for folder in ("/run", "/var/tmp"):
        subprocess.run(["mount", "-t", "tmpfs", "none", folder], check=True, capture_output=True)
    groups = Path("/etc/group").read_text().splitlines()
    written = Path("/run/group")
    written.write_text(
        "".join(
            f"{line}{',' if line[-1] != ':' else ''}root\n" if line.startswith(f"{_GROUP}:") else f"{line}\n"
            for line in groups
        )
    )
    subprocess.run(["mount", "--bind", str(written), "/etc/group"], check=True, capture_output=True)


if __name__ == "__main__":
    sys.exit(main())
