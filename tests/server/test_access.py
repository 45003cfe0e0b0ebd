"""Opened to the network: nothing without a passphrase, viewers change nothing, and guessing is slow."""

from __future__ import annotations

import os
import re
import shutil
import socket
import subprocess
import sys
import time
from pathlib import Path

import httpx
import pytest
from fastapi.testclient import TestClient

from vast_quarry.core.errors import PlainError
from vast_quarry.server import access as module
from vast_quarry.server.access import COOKIE, Access
from vast_quarry.server.app import make_app

OWNER, VIEWER = "open quarry gate", "look at stones"
FAR = ("192.168.7.20", 50_000)
S = "/api/v1/session"


@pytest.fixture
def access() -> Access:
    return Access.of({"owner": OWNER, "viewer": VIEWER})


@pytest.fixture
def far(tmp_path: Path, access: Access) -> TestClient:
    return TestClient(make_app(tmp_path, access), "http://192.168.7.1:8765", client=FAR)


def enter(client: TestClient, passphrase: str) -> int:
    return client.post(S, json={"passphrase": passphrase}).status_code


def test_without_a_passphrase_the_network_gets_nothing_but_the_door(far: TestClient) -> None:
    for answer in (far.get("/api/v1/projects"), far.get("/api/v1/health"), far.post("/api/v1/projects", json={})):
        assert (answer.status_code, answer.json()["code"]) == (401, "say-the-passphrase-or-the")
    assert far.get(S).json() == {"role": None, "open": True}


def test_an_owner_may_everything_and_a_viewer_looks(far: TestClient) -> None:
    assert enter(far, OWNER) == 200
    assert far.get(S).json()["role"] == "owner"
    project = far.post("/api/v1/projects", json={"name": "Gate"}).json()["id"]
    assert far.delete(S).status_code == 204
    assert far.get("/api/v1/projects").status_code == 401
    assert enter(far, VIEWER) == 200
    assert [p["name"] for p in far.get("/api/v1/projects").json()] == ["Gate"]
    for answer in (
        far.delete(f"/api/v1/projects/{project}"),
        far.patch(f"/api/v1/projects/{project}", json={"name": "x"}),
        far.post(f"/api/v1/projects/{project}/photos/from-path", json={"path": "/"}),
        far.put(f"/api/v1/projects/{project}/layers/points/settings", json={}),
    ):
        assert (answer.status_code, answer.json()["code"]) == (403, "you-may-look-at-everything")
    assert far.post(f"/api/v1/projects/{project}/points/select", json={"terms": []}).status_code not in (401, 403)


def test_this_machine_needs_no_passphrase(tmp_path: Path, access: Access) -> None:
    here = TestClient(make_app(tmp_path, access), "http://127.0.0.1", client=("127.0.0.1", 50_000))
    assert here.get(S).json() == {"role": "owner", "open": True}
    assert here.post("/api/v1/projects", json={}).status_code == 201
    closed = TestClient(make_app(tmp_path / "closed"), "http://127.0.0.1")
    assert closed.get(S).json() == {"role": "owner", "open": False}


def test_the_cookie_is_kept_from_scripts_and_other_sites(tmp_path: Path) -> None:
    """RFC 6265bis, 5.6: HttpOnly, SameSite, and Secure where it is served encrypted."""
    for tls in (False, True):
        app = make_app(tmp_path / str(tls), Access.of({"owner": OWNER, "viewer": VIEWER}, tls=tls))
        client = TestClient(app, "https://192.168.7.1:8765", client=FAR)
        cookie = client.post(S, json={"passphrase": OWNER}).headers["set-cookie"]
        assert cookie.startswith(f"{COOKIE}=")
        assert "HttpOnly" in cookie
        assert "SameSite=strict" in cookie
        assert ("Secure" in cookie) == tls


def test_guessing_has_to_wait(far: TestClient, tmp_path: Path, access: Access, monkeypatch: pytest.MonkeyPatch) -> None:
    clock = [1000.0]
    monkeypatch.setattr(module.time, "monotonic", lambda: clock[0])
    assert [enter(far, "wrong wrong") for _ in range(6)] == [401] * 4 + [429, 429]
    refused = far.post(S, json={"passphrase": OWNER})
    assert refused.status_code == 429
    assert int(refused.headers["Retry-After"]) == 60
    other = TestClient(far.app, "http://192.168.7.1:8765", client=("192.168.7.21", 50_000))
    assert enter(other, OWNER) == 200
    clock[0] += 61
    assert enter(far, OWNER) == 200


def test_a_made_up_or_old_session_is_none(far: TestClient, access: Access, monkeypatch: pytest.MonkeyPatch) -> None:
    far.cookies.set(COOKIE, "made-up")
    assert far.get("/api/v1/projects").status_code == 401
    far.cookies.clear()
    enter(far, OWNER)
    assert far.get("/api/v1/projects").status_code == 200
    later = time.time() + module.LASTS + 1
    monkeypatch.setattr(module.time, "time", lambda: later)
    assert far.get("/api/v1/projects").status_code == 401


@pytest.mark.parametrize("host", ["evil.example", "192.168.7.1.evil.example"])
def test_names_that_are_not_this_machines_are_not_answered(far: TestClient, host: str) -> None:
    """DNS rebinding: a name can be turned to point here, an address cannot."""
    assert far.get("/", headers={"Host": host}).status_code == 403
    assert far.post(S, json={"passphrase": OWNER}, headers={"Origin": f"http://{host}"}).status_code == 403


@pytest.mark.parametrize(
    "words", [{"owner": "short", "viewer": VIEWER}, {"owner": OWNER, "viewer": OWNER}], ids=["short", "same"]
)
def test_passphrases_that_are_none(words: dict) -> None:
    with pytest.raises(PlainError):
        Access.of(words)


def test_the_address_that_it_listens_at_is_told_as_browsers_write_it() -> None:
    assert module.addresses_here("192.168.7.1") == ["192.168.7.1"]
    assert module.addresses_here("fd00::7") == ["[fd00::7]"]
    assert all(re.fullmatch(r"[\d.]+", a) for a in module.addresses_here("0.0.0.0"))


def test_passphrases_are_kept_as_hashes_only(access: Access) -> None:
    """RFC 9106: Argon2id."""
    assert all(h.startswith("$argon2id$") for h in access.hashes.values())
    assert OWNER not in repr(access)


@pytest.mark.skipif(shutil.which("openssl") is None, reason="a certificate is made by openssl")
def test_serve_tells_codes_and_answers_encrypted(tmp_path: Path) -> None:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    made = subprocess.run(
        ["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", "key.pem", "-out", "cert.pem", "-days", "2", "-subj", "/CN=localhost", "-addext", "subjectAltName=IP:127.0.0.1"],
        cwd=tmp_path, capture_output=True,
    )  # fmt: skip
    assert made.returncode == 0
    command = [
        sys.executable,
        "-m",
        "vast_quarry.cli.main",
        "serve",
        "--lan",
        "--port",
        str(port),
        "--data",
        str(tmp_path / "d"),
    ]
    command += ["--certificate", str(tmp_path / "cert.pem"), "--certificate-key", str(tmp_path / "key.pem")]
    env = {**os.environ, "VAST_QUARRY_VIEWER_PASSPHRASE": VIEWER}
    with subprocess.Popen(command, stdout=subprocess.PIPE, text=True, encoding="utf-8", env=env) as process:
        assert process.stdout is not None
        try:
            told = ""
            for line in process.stdout:
                told += line
                if "Pairing code of owners" in line:
                    break
            assert f"https://127.0.0.1:{port}/" in told
            assert re.search(r"Pairing code of owners: \d{4}-\d{4}\n", told)
            assert VIEWER not in told
            for other in re.findall(r"On this network: (\S+)", told):
                assert re.fullmatch(rf"https://\d+\.\d+\.\d+\.\d+:{port}/", other)
            context = httpx.create_ssl_context(verify=str(tmp_path / "cert.pem"))
            answer = httpx.get(f"https://127.0.0.1:{port}{S}", verify=context, trust_env=False)
            assert answer.json() == {"role": "owner", "open": True}
        finally:
            process.terminate()


@pytest.mark.parametrize(
    "more", [["--host", "0.0.0.0"], ["--lan", "--certificate", "no.pem", "--certificate-key", "no.pem"], ["--lan", "--certificate", __file__], ["--lan", "--certificate", __file__, "--certificate-key", __file__]]
)  # fmt: skip
def test_serve_refuses_what_would_not_be_safe(tmp_path: Path, more: list[str]) -> None:
    command = [sys.executable, "-m", "vast_quarry.cli.main", "serve", "--data", str(tmp_path), *more]
    done = subprocess.run(command, capture_output=True, text=True, encoding="utf-8", timeout=120)
    assert done.returncode != 0
    assert "Traceback" not in done.stderr + done.stdout
