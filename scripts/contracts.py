"""Write the published contracts: the API, the file format, what devices do, YANG's tables.

`--check` only compares.
"""

import ast
import json
import sys
import tempfile
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from msgspec.structs import asdict

from greyheron.model.document import Network
from greyheron.model.traits import TRAITS
from greyheron.server.access import Access
from greyheron.server.app import make_app
from greyheron.store.database import open_database
from yang_tables import yang_tables

ROOT = Path(__file__).parent.parent
NOTATION = ROOT / "src" / "greyheron" / "model" / "notation"


def contracts() -> dict[str, str]:
    with tempfile.TemporaryDirectory() as folder:
        app = make_app(open_database(Path(folder) / "empty.db"), Access(), None)
        return {
            "docs/openapi.json": _json(app.openapi()),
            "docs/network.schema.json": _json(Network.model_json_schema(by_alias=True)),
            "ui/src/api/traits.ts": _traits(),
            "ui/src/api/keywords.ts": _keywords(),
            "src/greyheron/formats/yang/standard.json": _json(yang_tables()),
        }


def _json(contract: Mapping[str, Any]) -> str:
    return json.dumps(contract, ensure_ascii=False, indent=1) + "\n"


def _traits() -> str:
    """What each kind of device does, as the workbench reads it."""
    traits = {kind.value: asdict(each) for kind, each in TRAITS.items()}
    return (
        "/** What each kind of device does. Made by `make contracts` from model/traits.py. */\n"
        f"export const TRAITS = {json.dumps(traits, indent=2)} as const;\n"
    )


def _keywords() -> str:
    """The fixed words of the notation: those that its readers take, for editors to tell from names."""
    calls = [
        (node.func.attr, node.args)
        for file in sorted(NOTATION.glob("*.py"))
        for node in ast.walk(ast.parse(file.read_text(encoding="utf-8")))
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute) and node.args
    ]
    given = [args[0] for name, args in calls if name == "take"]
    chosen = [each for name, args in calls if name == "choose" for each in ast.walk(args[0])]
    given += [key for each in chosen if isinstance(each, ast.Dict) for key in each.keys if key is not None]
    words = {each.value for each in given if isinstance(each, ast.Constant) and isinstance(each.value, str)}
    listed = json.dumps(sorted(words), ensure_ascii=False, indent=2)
    return (
        "/** The fixed words of the notation. Made by `make contracts` from model/notation. */\n"
        f"export const KEYWORDS: ReadonlySet<string> = new Set({listed});\n"
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
