"""YANG instances held against an independent validator, with the modules that a kept package has."""

import json
import shutil
import subprocess
from collections.abc import Mapping
from functools import cache
from importlib.metadata import files
from pathlib import Path

OURS = Path(__file__).parents[1] / "docs" / "yang"
VALIDATOR = shutil.which("yanglint")
_MODULES = (
    "iana-if-type",
    "ietf-ip",
    "ietf-access-control-list",
    "ietf-ipv4-unicast-routing",
    "ietf-ipv6-unicast-routing",
    "ietf-nat",
    "ietf-l3-unicast-topology",
    "grey-heron",
)


@cache
def folders() -> tuple[Path, ...]:
    """Where the IETF's and IANA's modules lie, as `pyang` ships them."""
    found = files("pyang") or []
    places = {Path(str(each.locate())).resolve().parent for each in found if each.name.endswith(".yang")}
    return tuple(sorted(places))


def complaints(content: Mapping[str, object] | str, folder: Path) -> str:
    """What the validator says against the content of an instance, JSON or XML; nothing where it is sound."""
    assert VALIDATOR is not None
    form = "xml" if isinstance(content, str) else "json"
    file = folder / f"instance.{form}"
    file.write_text(content if isinstance(content, str) else json.dumps(content))
    ours = next(OURS.glob("grey-heron@*.yang"))
    paths = [word for place in (*folders(), OURS) for word in ("-p", str(place))]
    every = [word for name in _MODULES for word in ("-F", f"{name}:*")]
    modules = [str(_module(name)) for name in _MODULES[:-1]] + [str(ours)]
    command = [VALIDATOR, *paths, *every, "-t", "config", "-f", form, *modules, str(file)]
    done = subprocess.run(command, capture_output=True, text=True)
    return done.stderr if done.returncode else ""


def _module(name: str) -> Path:
    return next(place / f"{name}.yang" for place in folders() if (place / f"{name}.yang").exists())
