"""What collected machines become, held against what they did."""

import json
import subprocess
import sys
from dataclasses import dataclass
from typing import Any

from greyheron.core.timeline import Timeline
from greyheron.core.walk.conversation import converse
from greyheron.core.walk.icmp_errors import Seen
from greyheron.core.walk.verdicts import Verdict
from greyheron.formats.bundle import Bundle
from greyheron.formats.known import bring
from greyheron.model.notation.flows import read_bare_flow

UNSHARE = (
    *("unshare", "--user", "--map-root-user", "--net", "--mount", "--ipc", "--pid", "--fork"),
    *("--kill-child", "--mount-proc"),
)
SEES = {
    Seen.REPLY: "reply",
    Seen.RESET: "refused",
    Seen.PORT_UNREACHABLE: "refused",
    Seen.PROHIBITED: "prohibited",
    Seen.HOST_UNREACHABLE: "prohibited",
    Seen.NETWORK_UNREACHABLE: "unreachable",
    Seen.NOTHING: "nothing",
}


_FAILED = {Verdict.BLOCKED, Verdict.UNREACHABLE}


@dataclass(frozen=True)
class Held:
    """One set of machines.

    seen:  how many conversations there were;  not_known:  of how many that is said
    unlike:  those that went otherwise than said;  notices:  what was said to be left out
    """

    seen: int
    not_known: int
    unlike: tuple[str, ...]
    notices: tuple[str, ...]


def in_namespaces(module: str, *arguments: str) -> Any:
    """What a module prints as JSON that runs first in namespaces of its own."""
    command = [*UNSHARE, sys.executable, "-m", module, *arguments]
    done = subprocess.run(command, capture_output=True, text=True)
    if done.returncode:
        raise RuntimeError(done.stderr)
    return json.loads(done.stdout)


def held(found: dict[str, Any]) -> Held:
    """`found`: the files that were collected, and what was seen, as `tests.kernel.small` prints it."""
    _, brought = bring(Bundle("set.zip", {name: text.encode() for name, text in found["files"].items()}))
    timeline = Timeline.build(brought.network)
    rejects = '"reject"' in "".join(found["files"].values())
    astray = any("where these packets go is not known" in str(each) for each in brought.left_out)
    unlike: list[str] = []
    not_known = 0
    for text, seen in found["seen"]:
        results = [converse(timeline.world(span), read_bare_flow(text)) for span in timeline.shown]
        verdicts = {result.verdict for result in results}
        seen_so = {result.exchanges[0].sees for result in results}
        if len(verdicts) > 1 or (len(seen_so) > 1 and not verdicts <= _FAILED):
            not_known += 1
        elif astray and verdicts <= _FAILED and seen in ("unreachable", "prohibited", "nothing"):
            not_known += 1  # it fails either way: where, that is said not to be known
        elif not _alike(verdicts.pop(), SEES[results[0].exchanges[0].sees], seen, rejects):
            unlike.append(f"{text}: {results[0].verdict}, and the sender saw {seen}")
    return Held(len(found["seen"]), not_known, tuple(unlike), tuple(map(str, brought.left_out)))


def _alike(verdict: Verdict, predicted: str, seen: str, rejects: bool) -> bool:
    """How a denial is told to the sender is a guess, and said to be one."""
    if verdict is Verdict.BLOCKED:
        return seen in ("nothing", "prohibited") or (rejects and seen == "refused")
    if verdict is Verdict.UNREACHABLE:
        return seen in ("unreachable", "prohibited", "nothing")
    return predicted == seen
