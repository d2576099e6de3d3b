"""Write the published contracts: the API, the file format, what devices do. `--check` only compares."""

import json
import sys
import tempfile
from pathlib import Path
from typing import Any

from msgspec.structs import asdict

from greyheron.model.document import Network
from greyheron.model.traits import TRAITS
from greyheron.server.access import Access
from greyheron.server.app import make_app
from greyheron.store.database import open_database

ROOT = Path(__file__).parent.parent


def contracts() -> dict[str, str]:
    with tempfile.TemporaryDirectory() as folder:
        app = make_app(open_database(Path(folder) / "empty.db"), Access(), None)
        return {
            "docs/openapi.json": _json(app.openapi()),
            "docs/network.schema.json": _json(Network.model_json_schema(by_alias=True)),
            "ui/src/api/traits.ts": _traits(),
        }


def _json(contract: dict[str, Any]) -> str:
    return json.dumps(contract, ensure_ascii=False, indent=1) + "\n"


def _traits() -> str:
    """What each kind of device does, as the workbench reads it."""
    traits = {kind.value: asdict(each) for kind, each in TRAITS.items()}
    return (
        "/** What each kind of device does. Made by `make contracts` from model/traits.py. */\n"
        f"export const TRAITS = {json.dumps(traits, indent=2)} as const;\n"
    )


def main() -> int:
    stale = []
    for name, text in contracts().items():
        file = ROOT / name
        if "--check" not in sys.argv:
            file.write_text(text, encoding="utf-8")
        elif not file.is_file() or file.read_text(encoding="utf-8") != text:
            stale.append(name)
    if stale:
        print(f"out of date: {', '.join(stale)}: run `make contracts`")
    return bool(stale)


if __name__ == "__main__":
    sys.exit(main())
