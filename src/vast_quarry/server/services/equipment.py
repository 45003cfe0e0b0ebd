"""Talking to a camera, its stand, a turntable and lamps over HTTP (``docs/rig.md``), in the user's words when one fails."""

from __future__ import annotations

import contextlib
import json
import re
import socket
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

import httpx
import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.errors import PlainError
from vast_quarry.core.plan.rings import Station
from vast_quarry.core.words import say

#: time a device has for its answer (s); a trigger takes as long as the photo does
QUICK = 10.0
#: a table that has not arrived after so long is taken for stuck (s), on top of what its speed needs
LATE = 4.0
#: time the shipped rig has to build its scene (s)
BUILDING = 300.0


#: bytes of a picture, and of any other answer, that are taken
PICTURE, WORDS = 500_000_000, 1_000_000


@dataclass(frozen=True)
class Said:
    """What a device answered: data that says nothing until it was looked at."""

    status: int
    content: bytes

    def json(self) -> Any:
        """As JSON, whatever it is."""
        return json.loads(self.content)

    def object(self, device: str) -> dict[str, Any]:
        """As a JSON object.

        Raises
        ------
        PlainError
            When it is none.
        """
        try:
            found = self.json()
        except (ValueError, RecursionError):
            found = None
        if not isinstance(found, dict):
            raise PlainError(
                say("The {device} answers what cannot be understood.", device=device),
                "Look whether it is the right address.",
            )
        return found


def number_in(answer: dict[str, Any], name: str, device: str) -> float:
    """A number that a device answered.

    Raises
    ------
    PlainError
        When there is none.
    """
    value = answer.get(name)
    if isinstance(value, bool) or not isinstance(value, int | float) or not abs(value) < 1e12:
        raise PlainError(
            say("The {device} does not answer its {what}.", device=device, what=name.split("_")[0]),
            "Look whether it is the right address.",
        )
    return float(value)


def shown(text: object, most: int = 300) -> str:
    """Words of a device, fit to be shown: no longer than a few sentences, and printable."""
    clean = "".join(c if c.isprintable() else " " for c in str(text))
    return clean if len(clean) <= most else f"{clean[:most]} ..."


class Equipment:
    """Devices at an address.

    Parameters
    ----------
    address : str
        Like ``http://127.0.0.1:8770``.
    patience : float
        Seconds the camera has for a photo.
    """

    def __init__(self, address: str, patience: float) -> None:
        if not re.fullmatch(r"https?://[\w.\-]+(:\d+)?/?", address):
            raise PlainError(
                say("{address} is no address of a rig.", address=address), "Write it like http://127.0.0.1:8770."
            )
        self.http = httpx.Client(base_url=address, timeout=QUICK, trust_env=False, follow_redirects=False)
        self.patience = patience
        self._angle: float | None = None

    def _ask(self, device: str, method: str, path: str, timeout: float | None = None, **more: Any) -> Said:
        """An answer.

        Raises
        ------
        PlainError
            When there is none, or the device says no.
        """
        most = PICTURE if path.startswith("/camera/pictures/") else WORDS
        try:
            with self.http.stream(method, path, timeout=timeout or QUICK, **more) as answer:
                body = bytearray()
                for part in answer.iter_bytes():
                    body += part
                    if len(body) > most:
                        raise PlainError(
                            say(
                                "The {device} answers with more than {mb} MB.",
                                device=device,
                                mb=round(most / 1e6),
                            ),
                            "Look whether it is the right address.",
                        )
            said = Said(answer.status_code, bytes(body))
        except httpx.TimeoutException as error:
            raise PlainError(
                say("The {device} does not answer.", device=device),
                "Look whether it is on and connected, then press Resume.",
            ) from error
        except httpx.HTTPError as error:
            raise PlainError(
                say("The {device} cannot be reached at {address}.", device=device, address=self.http.base_url),
                "Look whether it is on, then press Resume.",
            ) from error
        if said.status >= 300:  # a device that sends elsewhere is not followed there
            try:
                why = shown(said.json()["detail"])
            except (ValueError, KeyError, TypeError):
                why = say("The {device} refuses ({status}).", device=device, status=said.status)
            raise PlainError(why, "Then press Resume.")
        return said

    def about(self) -> dict[str, Any]:
        """What there is."""
        about = self._ask("rig", "GET", "/").object("rig")
        return {
            "ready": bool(about.get("ready")),
            "turntable": bool(about.get("turntable")),
            "scene": about.get("scene", ""),
        }

    def wait_ready(self, look: Callable[[], None]) -> dict[str, Any]:
        """Wait until everything is ready; ``look`` is called between tries."""
        end = time.monotonic() + BUILDING
        while not (about := self.about())["ready"]:
            look()
            if time.monotonic() > end:
                raise PlainError("The rig does not get ready.", "Start it again.")
            time.sleep(0.3)
        return about

    def set_camera(self, f_number: float, iso: float, shutter_s: float) -> None:
        """Aperture, ISO, shutter."""
        self._ask("camera", "PUT", "/camera", json={"f_number": f_number, "iso": iso, "shutter_s": shutter_s})

    def fail(self, failures: list[dict[str, Any]]) -> None:
        """Failures on demand: only a practice rig knows them."""
        self._ask("rig", "PUT", "/failures", json=failures)

    def place(self, station: Station) -> None:
        """Move the stand."""
        self._ask(
            "stand", "PUT", "/stand", json={"center": station.center.tolist(), "rotation": station.rotation.tolist()}
        )

    def turn(self, degrees: float, look: Callable[[], None]) -> None:
        """Turn the table, and wait until it is there."""
        state = self._ask("turntable", "POST", "/turntable/turn", json={"to_deg": degrees}).object("turntable")
        end = time.monotonic() + 360.0 / max(number_in(state, "speed_deg_s", "turntable"), 0.1) + LATE
        while True:
            state = self._ask("turntable", "GET", "/turntable").object("turntable")
            angle, moving = number_in(state, "angle_deg", "turntable"), bool(state.get("moving"))
            off = abs((angle - degrees + 180) % 360 - 180)
            if not moving and off < 0.1:
                return
            if not moving or time.monotonic() > end:
                raise PlainError(
                    say(
                        "The turntable stopped at {angle} degrees on its way to {degrees}.",
                        angle=round(angle),
                        degrees=round(degrees % 360),
                    ),
                    "Free it, then press Resume.",
                )
            look()
            time.sleep(0.05)

    def photograph(self, look: Callable[[], None]) -> tuple[int, bytes]:
        """Take a photo and fetch it: its number on the card, and the file."""
        look()
        answer = self._ask("camera", "POST", "/camera/trigger", timeout=self.patience).object("camera")
        number = int(number_in(answer, "number", "camera"))
        return number, self._ask("camera", "GET", f"/camera/pictures/{number}", timeout=30.0).content

    def mask(self, number: int) -> bytes:
        """The exact mask of a photo: only a practice rig knows it."""
        return self._ask("rig", "GET", f"/camera/pictures/{number}/mask").content

    def forget(self, number: int) -> None:
        """Free the card's room."""
        self._ask("camera", "DELETE", f"/camera/pictures/{number}")


def at_front(station: Station) -> tuple[float, Station]:
    """How far to turn the table (degrees) so that a planned station comes before the front, and the station there."""
    x, y = float(station.center[0]), float(station.center[1])
    turn = -np.arctan2(x, -y)
    r: NDArray[np.float64] = np.array([[np.cos(turn), -np.sin(turn), 0], [np.sin(turn), np.cos(turn), 0], [0, 0, 1.0]])
    return float(np.degrees(turn)), Station(station.rotation @ r.T, r @ station.center, station.ring, station.role)


@contextlib.contextmanager
def shipped_rig(scene: str, width: int, height: int, focal35: float, seed: int) -> Iterator[str]:
    """The rig that ships with the application, started for the time of a shoot; its address."""
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    command = [
        sys.executable, "-m", "vast_quarry.cli.main", "rig", "serve", "--scene", scene, "--size", f"{width}x{height}",
        "--focal", f"{focal35}", "--seed", str(seed), "--port", str(port),
    ]  # fmt: skip
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
    try:
        end = time.monotonic() + 60
        while True:
            with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", port), 0.5):
                break
            if process.poll() is not None or time.monotonic() > end:
                said = (process.stderr.read() if process.stderr and process.poll() is not None else b"").decode(
                    errors="replace"
                )
                raise PlainError(
                    say("The practice rig does not start. {why}", why=said.strip()[-300:]),
                    "Look whether memory is free.",
                )
            time.sleep(0.1)
        yield f"http://127.0.0.1:{port}"
    finally:
        process.terminate()
        try:
            process.wait(3)
        except subprocess.TimeoutExpired:
            process.kill()
