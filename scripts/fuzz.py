"""Random requests to every route of a server that keeps state: `python scripts/fuzz.py [COUNT] [SEED]`."""

import sys
import tempfile
from pathlib import Path
from random import Random

from fastapi.testclient import TestClient
from tests.fuzz import Requests, failures

from greyheron.server.access import Access
from greyheron.server.app import make_app
from greyheron.store.database import open_database

SOME = 500


def main() -> int:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 10_000
    seed = int(sys.argv[2]) if len(sys.argv) > 2 else 1
    failed = 0
    with tempfile.TemporaryDirectory() as folder:
        app = make_app(open_database(Path(folder) / "networks.db"), Access(), None)
        with TestClient(app, base_url="http://127.0.0.1:8470", raise_server_exceptions=False) as client:
            made = [client.post(f"/api/networks/demo?which={name}").json() for name in ("saltmarsh", "storm")]
            requests = Requests(app.openapi(), [each["id"] for each in made], Random(seed))
            for begun in range(0, count, SOME):
                requests.networks = [each["id"] for each in client.get("/api/networks").json()][:6]
                for line in failures(client, iter(requests), min(SOME, count - begun)):
                    failed += 1
                    print(line, flush=True)
    print(f"{count} requests, {failed} answered by an error of ours")
    return bool(failed)


if __name__ == "__main__":
    sys.exit(main())
