"""Random requests to every route, made from the OpenAPI document: none may be answered by an error of ours.

The short run is part of the tests; `python scripts/fuzz.py` runs it long, over one server that keeps state.
"""

import json
from collections.abc import Iterator
from dataclasses import dataclass
from random import Random
from typing import Any
from urllib.parse import quote

from fastapi.testclient import TestClient

WORDS = (
    "", " ", "kiosk", "ledger", "centre-gw", "visitors-in", "eth1", "wan0", "t1", "r1", "1", "none", "any",
    "tcp/443", "telnet", "ping", "services", "@no", "a" * 300, "ä→ö", "\r", "a\rb", "\x00", "\ud7ff", "?",
    "kiosk → ledger telnet", "kiosk → ledger telnet pass", "172.20.16.99/24 → ledger telnet block",
    "172.20.16.99/24 → 172.20.40.99/24 tcp/1 pass", "kiosk → 2001:db8::1 udp/53",
    "fe80::1 → ledger ping pass",
    "block any → any any", "only kiosk → ledger tcp", "allow segment kiosk → ledger:eth0 telnet",
    "172.20.0.0/14", "172.20.16.21", "2001:db8::/32", "router sluice 172.20.32.1/24", "eth0 172.20.1.1/24",
    "10 permit tcp from any to any port 80,443", "permit", "deny any", "# note", "10 permit any\n10 deny any",
    "name: a\nkind: host", "? [a]\n: 1", "1: 2", "name: !!bool x", "{a: 1, a: 2}", "[", "- 1\n- 2", "null",
    "format: grey-heron/1\nname: x", "format: grey-heron/1\nname: [x]",
    "group,flow,note\n,kiosk → ledger ping pass,",
    "flow\n\"kiosk", "flow\rkiosk → ledger ping pass\r", "flow\n\x00", "{}", "0x10", "1e999", "-1", "9" * 40,
    "tcp/99999", "tcp/0", "udp/53,54", "icmp/8", "8/0", "a:b:c", "lagoon:eth0", "../..", "%", "%2e%2e",
)  # fmt: skip
NUMBERS = (0, 1, 2, -1, 255, 65535, 65536, 1 << 31, 1 << 63, 1 << 70, 0.5, 1e308)


@dataclass(frozen=True, slots=True)
class RehearsedFlow:
    """One random request, as the client sends it."""

    method: str
    path: str
    query: dict[str, str]
    headers: dict[str, str]
    body: bytes | None

    def __str__(self) -> str:
        return f"{self.method} {self.path} {self.query} {self.headers} {self.body!r}"


class Requests:
    """Random requests to the routes of one OpenAPI document, about the networks that there are."""

    def __init__(self, document: dict[str, Any], networks: list[str], chance: Random) -> None:
        self._document, self.networks, self._chance = document, networks, chance
        self._routes = [
            (method.upper(), path, operation)
            for path, operations in document["paths"].items()
            for method, operation in operations.items()
        ]
        self.seen: list[str] = list(WORDS)

    def __iter__(self) -> Iterator[RehearsedFlow]:
        while True:
            yield self._one(*self._chance.choice(self._routes))

    def every(self) -> Iterator[RehearsedFlow]:
        """One request to each route."""
        for route in self._routes:
            yield self._one(*route)

    def _one(self, method: str, path: str, operation: dict[str, Any]) -> RehearsedFlow:
        chance = self._chance
        query, headers = {}, {}
        for parameter in operation.get("parameters", ()):
            name, schema = parameter["name"], parameter["schema"]
            value = str(self._value(schema, 2))
            if parameter["in"] == "path":
                if name == "network_id" and self.networks and chance.random() < 0.95:
                    value = chance.choice(self.networks)
                path = path.replace(f"{{{name}}}", quote(value, safe="") or "-")
            elif parameter["in"] == "query":
                if parameter.get("required") or chance.random() < 0.5:
                    query[name] = value
            elif name.lower() == "if-match":
                headers[name] = chance.choice(['"1"', '"2"', '"3"', '"4"', "x", '"99"'])
        content = operation.get("requestBody", {}).get("content", {})
        if not content or chance.random() < 0.03:
            return RehearsedFlow(method, path, query, headers, None)
        media, shape = next(iter(content.items()))
        headers["Content-Type"] = media
        value = self._value(shape["schema"], 6)
        if media == "application/json":
            return RehearsedFlow(method, path, query, headers, json.dumps(value).encode())
        return RehearsedFlow(method, path, query, headers, str(value).encode("utf-8", "surrogatepass"))

    def _value(self, schema: dict[str, Any], depth: int) -> Any:
        chance = self._chance
        if "$ref" in schema:
            name = schema["$ref"].rsplit("/", 1)[1]
            return self._value(self._document["components"]["schemas"][name], depth)
        if chance.random() < 0.02 or depth <= 0:
            return chance.choice([None, True, [], {}, chance.choice(NUMBERS), chance.choice(self.seen)])
        for several in ("anyOf", "oneOf", "allOf"):
            if several in schema:
                return self._value(chance.choice(schema[several]), depth)
        if "enum" in schema:
            return chance.choice(schema["enum"])
        if "const" in schema:
            return schema["const"]
        kind = schema.get("type")
        if kind == "object" or "properties" in schema:
            needed = schema.get("required", ())
            given = {
                name: self._value(part, depth - 1)
                for name, part in schema.get("properties", {}).items()
                if name in needed or chance.random() < 0.5
            }
            if schema.get("additionalProperties") and "properties" not in schema:
                given |= {
                    chance.choice(self.seen): chance.choice(self.seen) for _ in range(chance.randrange(4))
                }
            return given
        if kind == "array":
            return [self._value(schema.get("items", {}), depth - 1) for _ in range(chance.randrange(4))]
        if kind == "integer" or kind == "number":
            return chance.choice(NUMBERS)
        if kind == "boolean":
            return chance.random() < 0.5
        if kind == "null":
            return None
        if kind == "string":
            return chance.choice(self.seen)
        return chance.choice([{}, [], None, chance.choice(self.seen), {"name": chance.choice(self.seen)}])


def failures(client: TestClient, requests: Iterator[RehearsedFlow], count: int) -> Iterator[str]:
    """The requests that were answered as none may be: by an error of ours, or by one without a document."""
    for _, asked in zip(range(count), requests, strict=False):
        answer = client.request(
            asked.method, asked.path, params=asked.query, headers=asked.headers, content=asked.body
        )
        kind = answer.headers.get("content-type", "")
        if answer.status_code >= 400 and not kind.startswith("application/problem+json"):
            yield f"{answer.status_code} as {kind}: {asked}"
        elif answer.status_code == 500:
            yield f"{answer.json()['number']}: {asked}"
