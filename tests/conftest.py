"""Shared fixtures: a store in a folder of its own, and the server in this process."""

from collections.abc import Iterator
from pathlib import Path

import pytest
from fastapi.testclient import TestClient
from hypothesis import settings
from sqlalchemy import Engine

from greyheron.server.access import Access
from greyheron.server.app import make_app
from greyheron.store.database import open_database
from greyheron.store.networks import NetworkStore

settings.register_profile("short", max_examples=60, deadline=None)
settings.register_profile("long", max_examples=2000, deadline=None)
settings.load_profile("short")


@pytest.fixture
def engine(tmp_path: Path) -> Engine:
    return open_database(tmp_path / "networks.db")


@pytest.fixture
def store(engine: Engine) -> NetworkStore:
    return NetworkStore(engine)


@pytest.fixture
def client(engine: Engine) -> Iterator[TestClient]:
    with TestClient(make_app(engine, Access(), None), base_url="http://127.0.0.1:8470") as client:
        yield client
