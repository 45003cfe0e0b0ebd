"""Starting the application where it cannot be started, or elsewhere than usual."""

from __future__ import annotations

import socket
from pathlib import Path

import httpx
import pytest
from tests.server.test_ground import serving

from vast_quarry.cli.serve import _listen
from vast_quarry.core.errors import PlainError


def test_a_port_that_another_program_has_is_told() -> None:
    with socket.socket() as other:
        other.bind(("127.0.0.1", 0))
        other.listen()
        with pytest.raises(PlainError, match="Another program listens at port"):
            _listen("127.0.0.1", other.getsockname()[1])


@pytest.mark.parametrize("port", [0, -4, 65536, 70000])
def test_ports_that_there_are_not(port: int) -> None:
    with pytest.raises(PlainError, match=f"There is no port {port}"):
        _listen("127.0.0.1", port)


def test_the_other_kind_of_address() -> None:
    try:
        with socket.socket(socket.AF_INET6) as there:
            there.bind(("::1", 0))
    except OSError:
        pytest.skip("this machine has no IPv6")
    with _listen("::1", _free()) as listening:
        assert listening.family == socket.AF_INET6


def _free() -> int:
    with socket.socket() as one:
        one.bind(("127.0.0.1", 0))
        return int(one.getsockname()[1])


def test_pages_and_projects_that_there_are_not_get_the_page_which_says_so(tmp_path: Path) -> None:
    with serving(tmp_path) as (_, http):
        assert isinstance(http, httpx.Client)
        for address in ("/no/such/page", "/projects/99", "/" + "a" * 300):
            answer = http.get(address)
            assert answer.status_code == 200
            assert answer.headers["content-type"].startswith("text/html")
        assert "no longer there" in http.get("/api/v1/projects/99").json()["detail"]
        assert http.get("/api/v1/no-such-thing").status_code == 404
