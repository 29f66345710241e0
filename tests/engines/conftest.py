"""Every test here runs on each engine that it names, in a database of its module's own."""

from __future__ import annotations

from collections.abc import Iterator

import pytest

from tests.servers import ENGINES, Server, served


@pytest.fixture(scope="module", params=ENGINES)
def any_server(
    request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory
) -> Iterator[Server]:
    with served(request.param, tmp_path_factory.mktemp("engine")) as found:
        yield found


@pytest.fixture
def server(any_server: Server) -> Server:
    any_server.clear()
    return any_server


@pytest.fixture(autouse=True)
def named(request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch) -> None:
    """A record is not believed about the server that it names: the person says it too."""
    if {"yeldro", "server"} <= {*request.fixturenames}:
        request.getfixturevalue("yeldro")
        monkeypatch.setenv("YELDRO_DB", request.getfixturevalue("server").place)
