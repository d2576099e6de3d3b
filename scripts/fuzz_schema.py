"""Requests with values for every field of every schema, valid and not, as a library of others makes them.

python scripts/fuzz_schema.py [COUNT] [SEED]   (`make fuzz` installs what it takes)

One server keeps its state over all of them. No answer may be an error of ours, and when the server is started
anew every network that it holds has to read.
"""

import json
import sys
import tempfile
from collections import Counter
from collections.abc import Mapping
from pathlib import Path
from random import Random
from typing import Any

import schemathesis
from fastapi.testclient import TestClient
from hypothesis import HealthCheck, Phase, given, settings
from hypothesis import seed as seeded
from schemathesis import GenerationMode

from greyheron.server.access import Access
from greyheron.server.app import make_app
from greyheron.store.database import open_database

HERE = "http://127.0.0.1:8470"
HEADERS: tuple[tuple[str, str | bytes], ...] = (
    ("Origin", "http://["), ("Origin", "null"), ("Origin", HERE), ("If-Match", b"\xff\xfe"),
    ("If-Match", "9" * 5000), ("If-None-Match", "*"), ("Accept-Encoding", "gzip;q=x"),
    ("Content-Length", "-1"), ("Range", "bytes=0-"),
    ("Content-Type", "text/plain"), ("Content-Type", "application/json; charset=utf-7"),
    ("Content-Type", "multipart/form-data"), ("Grey-Heron-Author", "%00%1b[31m"), ("Grey-Heron-Author", "%"),
    ("Cookie", "a=b; \x7f"), ("Host", "127.0.0.1"), ("Expect", "100-continue"), ("X-Request-Id", "\x00"),
)  # fmt: skip
UPLOADS = (
    b"", b"{", b"[" * 100_000, b"\x00" * 1000, b"PK\x03\x04", b"\x1f\x8b\x08",
    b"\x0a\x0d\x0d\x0a" + b"\xff" * 60, b"\xd4\xc3\xb2\xa1" + b"\xff" * 40, b"a: &a [*a]",
    b"format: grey-heron/1\nname: x", b"<!DOCTYPE x [<!ENTITY a 'b'>]>",
    b'{"format": "grey-heron/machine-1"}',
    b'{"format": "grey-heron/machine-1", "machine": "x", "ruleset": []}', "name: \ud7ff".encode(),
    b"\xff\xfe\x00", b"time,source\n1,2\n", b"x" * 70_000,
)  # fmt: skip
NAMES = (
    "a.yaml", "../a", "", "a\x00b", "a.pcapng", "a.zip", "x" * 300, "a.gz", "CON", "\u202ea.json", "a.csv",
)  # fmt: skip
_SAID = (dict, list, str, int, float, bool, type(None))
PER_ROUND = 40
"""So many requests are made of one operation before the next has its turn."""


class Fuzzing:
    """A server, what is asked of it, and what it should not have answered."""

    def __init__(self, client: TestClient, chance: Random) -> None:
        self._client, self._chance = client, chance
        self.asked, self.wrong = Counter[int](), dict[str, str]()

    def ask(self, case: Any) -> None:
        """Send one request that was made of the schema, about a network that there is."""
        chance = self._chance
        networks = {each["id"]: each["version"] for each in self._client.get("/api/networks").json()}
        if not networks:
            self._client.post("/api/networks/demo")
            return
        path = dict(case.path_parameters or {})
        if "network_id" in path and chance.random() < 0.95:
            path["network_id"] = chance.choice(list(networks))
        headers: dict[str, str | bytes] = {name: str(value) for name, value in (case.headers or {}).items()}
        if chance.random() < 0.8:
            headers["If-Match"] = f'"{networks.get(path.get("network_id"), 1)}"'
        if chance.random() < 0.15:
            headers |= dict([chance.choice(HEADERS)])
        case.path_parameters = path
        self._send(case.method, case.formatted_path, case, self._sendable(headers))

    def upload(self, path: str, networks: list[str]) -> None:
        """Send files that nobody would."""
        chance = self._chance
        where = path.replace("{network_id}", chance.choice(networks))
        files = [
            ("files", (chance.choice(NAMES), chance.choice(UPLOADS))) for _ in range(chance.randint(1, 3))
        ]
        self._told(f"POST {where}", lambda: self._client.post(where, files=files))

    @staticmethod
    def _sendable(headers: Mapping[str, str | bytes]) -> dict[bytes, bytes]:
        kept: dict[bytes, bytes] = {}
        for name, value in headers.items():
            text = value if isinstance(value, bytes) else value.encode("latin-1", "replace")
            kept[name.encode()] = text.replace(b"\r", b"").replace(b"\n", b"").strip()
        return kept

    def _send(self, method: str, path: str, case: Any, headers: Mapping[bytes, bytes]) -> None:
        body: dict[str, Any] = {}
        if isinstance(case.body, bytes | str) and case.media_type != "application/json":
            body = {"content": case.body}
        elif isinstance(case.body, _SAID):
            body = {"content": json.dumps(case.body)}
            headers = {b"Content-Type": b"application/json", **headers}
        query = {name: str(value) for name, value in (case.query or {}).items()}
        what = f"{method} {path} {query} {dict(headers)} {str(body)[:600]}"
        self._told(what, lambda: self._client.request(method, path, params=query, headers=headers, **body))

    def _told(self, what: str, send: Any) -> None:
        try:
            answer = send()
        except (ValueError, TypeError, UnicodeError):
            return  # the client will not send this
        self.asked[answer.status_code] += 1
        if answer.status_code < 400 and answer.request.method == "DELETE":
            return
        kind = answer.headers.get("content-type", "")
        if answer.status_code >= 500 and answer.status_code not in (503, 507):
            self.wrong.setdefault(what.partition("?")[0][:80], f"{answer.status_code}: {what}")
        elif answer.status_code >= 400 and not kind.startswith("application/problem+json"):
            self.wrong.setdefault(what[:80], f"{answer.status_code} as {kind}: {what}")


def fuzz(client: TestClient, document: dict[str, Any], count: int, seed: int) -> Fuzzing:
    found = Fuzzing(client, Random(seed))
    for which in ("saltmarsh", "storm"):
        client.post(f"/api/networks/demo?which={which}")
    operations = [each.ok() for each in schemathesis.openapi.from_dict(document).get_all_operations()]
    modes = (GenerationMode.POSITIVE, GenerationMode.POSITIVE, GenerationMode.NEGATIVE)
    turn = 0
    while found.asked.total() < count:
        for operation in operations:
            turn += 1
            mode = modes[turn % len(modes)]
            if mode is GenerationMode.NEGATIVE and not operation.definition.raw.get("parameters"):
                mode = GenerationMode.POSITIVE  # there is nothing to get wrong
            _round(found, operation.as_strategy(generation_mode=mode), seed + turn)
        networks = [each["id"] for each in client.get("/api/networks").json()]
        for _ in range(PER_ROUND if networks else 0):
            found.upload("/api/bring", networks)
            found.upload("/api/networks/{network_id}/traffic", networks)
        for network in networks[6:]:  # few enough that each is edited often
            version = client.get(f"/api/networks/{network}").headers.get("etag", '"1"')
            client.delete(f"/api/networks/{network}", headers={"If-Match": version})
        print(f"{found.asked.total()} requests, {len(found.wrong)} wrong, {dict(found.asked)}", flush=True)
    return found


def _round(found: Fuzzing, made: Any, seed: int) -> None:
    @seeded(seed)
    @settings(
        max_examples=PER_ROUND,
        deadline=None,
        database=None,
        phases=[Phase.generate],
        suppress_health_check=list(HealthCheck),
    )
    @given(case=made)
    def ask(case: Any) -> None:
        found.ask(case)

    try:
        ask()
    except Exception as error:  # the library can make nothing of it, or gave up
        print(f"not tried: {type(error).__name__}: {str(error)[:120]}", flush=True)


def main() -> int:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 10_000
    seed = int(sys.argv[2]) if len(sys.argv) > 2 else 1
    with tempfile.TemporaryDirectory() as folder:
        database = Path(folder) / "networks.db"
        app = make_app(open_database(database), Access(), None)
        with TestClient(app, base_url=HERE, raise_server_exceptions=False) as client:
            found = fuzz(client, app.openapi(), count, seed)
        again = make_app(open_database(database), Access(), None)
        unreadable = []
        with TestClient(again, base_url=HERE, raise_server_exceptions=False) as client:
            every = client.get("/api/networks").json()
            for each in every:
                for path in ("", "/book", "/changes", "/revisions", "/places"):
                    answer = client.get(f"/api/networks/{each['id']}{path}")
                    if not answer.is_success:
                        unreadable.append(f"{each['id']}{path}: {answer.status_code} {answer.text[:300]}")
    for line in (*found.wrong.values(), *unreadable):
        print(line)
    print(
        f"{found.asked.total()} requests, {len(found.wrong)} answered by an error of ours; "
        f"{len(every)} networks read again, {len(unreadable)} did not"
    )
    return bool(found.wrong or unreadable)


if __name__ == "__main__":
    sys.exit(main())
