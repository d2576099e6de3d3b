"""Rehearsals from outside: what they need, and the process in namespaces of its own that carries one out."""

import json
import os
import shutil
import subprocess
import sys
import threading
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import IO

from pydantic import TypeAdapter

from greyheron.formats.workspace import write_workspace
from greyheron.model.document import Network
from greyheron.model.errors import GreyHeronError
from greyheron.rehearsal.asking import Selection
from greyheron.rehearsal.report import RehearsalReport

LONGEST = 1800.0
"""Seconds after which a rehearsal is ended."""
_ISOLATED = ("--net", "--mount", "--ipc", "--pid", "--fork", "--kill-child", "--mount-proc")
_UNSHARE = ("unshare", "--user", "--map-root-user", *_ISOLATED)
_PROGRAMS = {"unshare": "util-linux", "nft": "nftables", "ip": "iproute2", "mount": "mount"}
_DAEMONS = Path("/usr/lib/frr/zebra")

Watch = Callable[[str, float], None]
Keep = Callable[[RehearsalReport, Mapping[str, str]], None]


class CannotRehearse(GreyHeronError):
    """A rehearsal cannot be had here, or it broke off; says why and what to do."""


def missing(network: Network | None = None) -> list[str]:
    """What is missing for a rehearsal, with how to get it; nothing: it can be had.

    network:  routing daemons are needed only where it speaks OSPF
    """
    if sys.platform != "linux":
        return ["A rehearsal builds the network in a Linux kernel, and this is none."]
    found = [
        f"The program {program} is missing: install the package {package}."
        for program, package in _PROGRAMS.items()
        if shutil.which(program, path=f"{_path()}") is None
    ]
    speaks = network is None or any(
        interface.ospf for device in network.devices for interface in device.interfaces
    )
    if speaks and not _DAEMONS.exists():
        found.append("The routing daemons are missing: install the package frr.")
    if not found:
        try:
            with _room():
                tried = subprocess.run([*_UNSHARE, "true"], capture_output=True, text=True)
        except CannotRehearse as error:
            return [str(error)]
        if tried.returncode:
            found.append(
                f"This system allows no namespaces of one's own ({tried.stderr.strip()}): allow user "
                "namespaces, or run as root."
            )
    return found


@contextmanager
def _room() -> Iterator[None]:
    """Where a process is begun, as far as the system has room for one. Raises CannotRehearse."""
    try:
        yield
    except (OSError, RuntimeError) as error:  # a process that cannot be begun, or a thread
        raise CannotRehearse(
            f"This system cannot begin another process ({error}): end some, or allow more."
        ) from None


def run_rehearsal(
    network: Network,
    progress: Watch,
    selection: Selection | None = None,
    longest: float = LONGEST,
    captures: Path | None = None,
    keep: Keep | None = None,
) -> RehearsalReport:
    """Rehearse `network` in a process of its own: every flow and requirement, or a `selection`.

    captures:  a folder for the packets of each of them, as pcapng files
    keep:  shown what came of it, and how to get into each device: the network stands until it returns

    `progress` is told the stage and how far it is; what it raises ends the rehearsal. Raises CannotRehearse.
    """
    selection = selection or Selection.all_of(network)
    lacking = missing(network)
    if lacking:
        raise CannotRehearse(" ".join(lacking))
    command = [*_UNSHARE, sys.executable, "-m", "greyheron.rehearsal.stage"]
    with _room():
        process = subprocess.Popen(
            command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
        )
    assert process.stdin is not None
    assert process.stdout is not None
    assert process.stderr is not None
    complaints: list[str] = []
    listening = threading.Thread(target=_read, args=(process.stderr, complaints), daemon=True)
    ended = threading.Timer(longest, process.kill)
    try:
        with _room():
            listening.start()
            ended.start()
        asked = {
            "network": write_workspace(network),
            "tests": sorted(selection.tests),
            "requirements": sorted(selection.requirements),
            "captures": None if captures is None else str(captures.absolute()),
            "keep": keep is not None,
        }
        process.stdin.write(json.dumps(asked) + "\n")
        process.stdin.flush()
        report: RehearsalReport | None = None
        for line in process.stdout:
            told = json.loads(line)
            if "report" in told:
                report = TypeAdapter(RehearsalReport).validate_python(told["report"])
                if keep is None or not report.tried:
                    return report
                continue
            if "kept" in told and keep is not None and report is not None:
                ended.cancel()
                keep(report, _ways_in(process.pid, told["kept"]))
                return report
            if "error" in told:
                raise CannotRehearse(f"The rehearsal broke off: {told['error']}.")
            progress(told["stage"], told["done"])
        process.wait()
        listening.join(1)
        why = "".join(complaints).strip().splitlines()[-1:] or ["it was ended"]
        raise CannotRehearse(f"The rehearsal broke off: {why[0]}.")
    except BrokenPipeError:
        raise CannotRehearse("The rehearsal broke off before it began.") from None
    finally:
        ended.cancel()
        process.stdin.close()  # it ends with its input, and with it all that it made
        process.kill()
        process.wait()
        if listening.ident is not None:
            listening.join()
        for stream in (process.stdout, process.stderr):
            stream.close()


def _ways_in(process: int, descriptors: Mapping[str, int]) -> dict[str, str]:
    """The command that opens a shell in each device of a network that stands."""
    (first,) = Path(f"/proc/{process}/task/{process}/children").read_text().split()
    into = f"nsenter --target {first} --user --preserve-credentials --mount"
    return {device: f"{into} --net=/proc/{first}/fd/{number}" for device, number in descriptors.items()}


def _read(stream: IO[str], into: list[str]) -> None:
    for line in stream:
        into.append(line)


def _path() -> str:
    """Where programs of the system lie, for users too who have them not on their path."""
    return f"{os.environ.get('PATH', '')}:/usr/sbin:/sbin"
