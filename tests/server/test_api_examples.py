"""The worked examples of docs/api.md, run as they stand against a server."""

from __future__ import annotations

import os
import re
import shutil
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest
from tests.conftest import SMALL, RigSet, moved

TEXT = (Path(__file__).parents[2] / "docs" / "api.md").read_text("utf-8")


def examples(language: str) -> list[str]:
    return re.findall(rf"^```{language}\n(.*?)^```", TEXT, re.MULTILINE | re.DOTALL)


@pytest.fixture(scope="module")
def server(built_data: Path, tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[str, Path]]:
    """A server and its worker; whatever project is built there finds what was built of the same photos."""
    data = moved(built_data, tmp_path_factory.mktemp("api") / "data")
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    command = [sys.executable, "-m", "vast_quarry.cli.main", "serve", "--port", str(port), "--data", str(data)]
    with subprocess.Popen(command, stdout=subprocess.DEVNULL) as process:
        url = f"http://127.0.0.1:{port}"
        try:
            for _ in range(600):
                try:
                    httpx.get(f"{url}/api/v1/health", trust_env=False)
                    break
                except httpx.HTTPError:
                    time.sleep(0.1)
            yield url, data
        finally:
            process.terminate()


def prepare(url: str, data: Path, project: int) -> None:
    """Give a project the small settings and the versions of the first one, so that a run takes seconds."""
    for layer, values in SMALL.items():
        where = f"{url}/api/v1/projects/{project}/layers/{layer}/settings"
        assert httpx.put(where, json=values, trust_env=False).status_code == 200
    target = data / "projects" / str(project) / "versions"
    shutil.copytree(data / "projects" / "1" / "versions", target, dirs_exist_ok=True)
    (target / "in-use.json").unlink()


@pytest.mark.parametrize("language", ["python", "sh"])
def test_the_examples_of_the_documentation_run(
    language: str, server: tuple[str, Path], milestone_set: RigSet, tmp_path: Path
) -> None:
    url, data = server
    first, second, third = examples(language)
    project = int(httpx.get(f"{url}/api/v1/projects", trust_env=False).json()[0]["id"]) + 1
    # between bringing photos in and running, the test steps in: it waits for this file
    gate = tmp_path / "go"
    if language == "python":
        wait = f"while not os.path.exists({str(gate)!r}):\n    time.sleep(0.1)\n"
        command = [sys.executable, "-c", "\n".join([first, "print('IN', flush=True)", wait, second, third])]
    else:
        if shutil.which("curl") is None:
            pytest.skip("curl is not there")
        wait = f"echo IN\nwhile [ ! -e '{gate}' ]; do sleep 0.1; done"
        command = ["bash", "-euc", "\n".join([first, wait, second, third])]
    env = {**os.environ, "URL": url, "FOLDER": str(milestone_set.photos), "no_proxy": "*"}
    with subprocess.Popen(
        command, cwd=tmp_path, env=env, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, encoding="utf-8", errors="replace",
    ) as process:  # fmt: skip
        assert process.stdout is not None
        told = ""
        for line in process.stdout:
            told += line
            if line == "IN\n":
                break
        prepare(url, data, project)
        gate.touch()
        told += process.stdout.read()
    assert process.returncode == 0, told
    assert "24 photos" in told
    assert "done" in told
    assert (tmp_path / "model.glb").read_bytes()[:4] == b"glTF"


def test_what_the_documentation_names_is_there() -> None:
    document = (Path(__file__).parents[2] / "docs" / "openapi.json").read_text("utf-8")
    for path in re.findall(r"`(/api/v1/[^`?]+)`", TEXT):
        known = re.sub(r"\{\w+\}", r"{\\w+}", re.escape(path).replace(r"\{", "{").replace(r"\}", "}"))
        known = re.sub(r"\{\\w\+\}", r"\\{\\w+\\}", known)
        assert re.search(f'"{known}"', document) or path.endswith(("openapi.json", "/events")), path
