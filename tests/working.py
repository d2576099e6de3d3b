"""Computations of a server, waited for as the workbench waits for them."""

import time
from typing import Any

from fastapi.testclient import TestClient
from httpx2 import Response


def answered(client: TestClient, begun: Response) -> Response:
    """The answer with the result of a computation, or with what ended it, however long it takes."""
    while begun.is_success and begun.json()["result"] is None:
        time.sleep(0.02)
        begun = client.get(f"/api/jobs/{begun.json()['id']}")
    return begun


def worked(client: TestClient, begin: str, body: Any = None) -> Any:
    """The result of a computation that a POST to `begin` starts."""
    found = answered(client, client.post(begin, json=body))
    assert found.is_success, found.text
    return found.json()["result"]


def imported(client: TestClient, content: bytes) -> Any:
    """The network of a workspace file, opened."""
    found = answered(client, client.post("/api/networks/import", content=content))
    assert found.is_success, found.text
    return client.get(f"/api/networks/{found.json()['result']['id']}").json()
