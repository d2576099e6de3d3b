"""Write the published contracts: docs/openapi.json and docs/network.schema.json. `--check` only compares."""

import json
import sys
import tempfile
from pathlib import Path
from typing import Any

from greyheron.model.document import Network
from greyheron.server.app import make_app
from greyheron.server.safety import Access
from greyheron.store.database import open_database

DOCS = Path(__file__).parent.parent / "docs"


def contracts() -> dict[str, Any]:
    with tempfile.TemporaryDirectory() as folder:
        app = make_app(open_database(Path(folder) / "empty.db"), Access(), None)
        return {
            "openapi.json": app.openapi(),
            "network.schema.json": Network.model_json_schema(by_alias=True),
        }


def main() -> int:
    stale = []
    for name, contract in contracts().items():
        text = json.dumps(contract, ensure_ascii=False, indent=1) + "\n"
        file = DOCS / name
        if "--check" not in sys.argv:
            file.write_text(text, encoding="utf-8")
        elif not file.is_file() or file.read_text(encoding="utf-8") != text:
            stale.append(name)
    if stale:
        print(f"out of date: {', '.join(stale)}: run `make contracts`")
    return bool(stale)


if __name__ == "__main__":
    sys.exit(main())
