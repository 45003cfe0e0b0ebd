"""Pictures and films of a model without a graphics card: rays to each pixel, one soft light and one lamp.

References
----------
Akenine-Moller, T. et al. (2018). Real-Time Rendering, 4th ed., ch. 10 (a sky and a sun as ambient and direct light).
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

import cv2
import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.formats.models import Model
from vast_quarry.core.formats.pictures import eight_bits
from vast_quarry.core.raycast import MISS, RayScene
from vast_quarry.core.surface.mesh import within_faces
from vast_quarry.core.texture.texels import looked_up

Array = NDArray[np.float64]
Look = Literal["textured", "plain", "wire"]
LOOKS: tuple[Look, ...] = ("textured", "plain", "wire")
#: stone without colour, wires, and what lies behind when it is not clear
STONE, WIRE = np.array([178.0, 196.0, 205.0]), np.array([60.0, 60.0, 60.0])
#: light from the sky above and from the ground below, and what the lamp adds
SKY, GROUND, LAMP = 0.62, 0.42, 0.55
#: field of view from top to bottom (degrees), and how much larger than the model what is seen is
FIELD, ROOM = 30.0, 1.12


@dataclass(frozen=True)
class View:
    """From where a picture is taken: turn about the model and rise over the horizon (degrees), and how near (1 shows all of it)."""

    turn: float = 30.0
    rise: float = 18.0
    near: float = 1.0


class Studio:
    """A model that pictures are taken of."""

    def __init__(self, model: Model, lamp: tuple[float, float, float] = (0.5, -0.7, 0.9)) -> None:
        self.model = model
        low, high = model.vertices.min(0), model.vertices.max(0)
        self.middle = (low + high) / 2
        self.radius = float(np.linalg.norm(high - low) / 2) or 1.0
        self.normals = model.normals.astype(np.float32)
        self.scene = RayScene()
        self.scene.add(model.vertices - self.middle, model.faces)
        self.lamp = np.asarray(lamp, float) / np.linalg.norm(lamp)
        self.picture = None if model.picture is None else eight_bits(model.picture)

    def picture_of(
        self, view: View, width: int, height: int, look: Look = "textured", behind: tuple[int, int, int] | None = None,
        samples: int = 1,
    ) -> NDArray[np.uint8]:  # fmt: skip
        """A picture (height, width, 4), blue, green, red and how opaque; with a colour (red, green, blue) ``behind`` all opaque."""
        w, h = width * samples, height * samples
        turn, rise = np.radians([view.turn - 90, view.rise])
        back = np.array([np.cos(turn) * np.cos(rise), np.sin(turn) * np.cos(rise), np.sin(rise)])
        right = np.array([-np.sin(turn), np.cos(turn), 0.0])
        up = np.cross(back, right)
        tall = np.tan(np.radians(FIELD / 2))
        # all of it fits the shorter side
        far = ROOM * self.radius / np.sin(np.arctan(tall * min(1.0, w / h))) / view.near
        # only where the box about the model is seen
        first, last, top, bottom = self._seen(far * back, right, up, back, tall, w, h)
        x = ((np.arange(first, last) + 0.5) / w * 2 - 1) * tall * w / h
        y = (1 - (np.arange(top, bottom) + 0.5) / h * 2) * tall
        grid = np.empty((len(y), len(x), 6), np.float32)
        grid[..., :3] = far * back
        grid[..., 3:] = -back + x[None, :, None] * right + y[:, None, None] * up
        rays = grid.reshape(-1, 6)
        hit = self.scene.cast(rays)
        on = hit["face"] != MISS
        part = np.zeros((len(x) * len(y), 4), np.float32)
        if on.any():
            pixel = far * 2 * tall / h
            part[on, :3] = self._shaded(
                hit["face"][on].astype(np.int64), hit["uv"][on], rays[on], hit["t"][on], look, pixel
            )
            part[on, 3] = 255
        image = np.zeros((h, w, 4), np.float32)
        image[top:bottom, first:last] = part.reshape(len(y), len(x), 4)
        if samples > 1:
            # colours of clear pixels do not count
            image = cv2.resize(image, (width, height), interpolation=cv2.INTER_AREA)
            share = np.maximum(image[..., 3:] / 255, 1e-6)
            image[..., :3] = np.where(image[..., 3:] > 0, image[..., :3] / share, 0)
        if behind is not None:
            share = image[..., 3:] / 255
            image[..., :3] = share * image[..., :3] + (1 - share) * np.array(behind[::-1], np.float32)
            image[..., 3] = 255
        return np.clip(image + 0.5, 0, 255).astype(np.uint8)

    def _seen(
        self, eye: Array, right: Array, up: Array, back: Array, tall: float, w: int, h: int
    ) -> tuple[int, int, int, int]:
        """Columns and rows, from and up to, between which the box about the model lies in a picture."""
        half = np.ptp(self.model.vertices, axis=0) / 2
        corners = half * np.array([[x, y, z] for x in (-1, 1) for y in (-1, 1) for z in (-1, 1)]) - eye
        depth = -corners @ back
        if (depth <= 0).any():
            return 0, w, 0, h
        x = (corners @ right / depth / (tall * w / h) + 1) / 2 * w
        y = (1 - corners @ up / depth / tall) / 2 * h
        first, top = (max(0, int(np.floor(v.min())) - 1) for v in (x, y))
        last, bottom = (min(n, int(np.ceil(v.max())) + 1) for v, n in ((x, w), (y, h)))
        return (first, last, top, bottom) if last > first and bottom > top else (0, w, 0, h)

    def _shaded(self, face: NDArray, uv: NDArray, rays: NDArray, t: NDArray, look: Look, pixel: float) -> NDArray:
        m = self.model
        corner = m.faces[face]
        n = within_faces(self.normals, corner, uv)
        n /= np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-12)
        # the inside of an open mesh is lit as its outside
        n *= -np.sign((n * rays[:, 3:]).sum(1, keepdims=True))
        color = np.tile(STONE, (len(face), 1))
        if look == "textured":
            color = self._colors(corner, uv)
        place = rays[:, :3] + t[:, None] * rays[:, 3:]
        lit = np.maximum(n @ self.lamp, 0)
        begin = place + 2e-3 * self.radius * n
        ask = lit > 0
        lit[ask] *= ~self.scene.blocked(
            np.concatenate([begin[ask], np.tile(self.lamp, (int(ask.sum()), 1))], 1).astype(np.float32)
        )
        sky = GROUND + (SKY - GROUND) * (0.5 + 0.5 * n[:, 2])
        out = color * (sky + LAMP * lit)[:, None]
        if look == "wire":
            # distance to the nearest edge in pixels: height of a triangle times the weight of its corner
            p = m.vertices[corner]
            area = np.linalg.norm(np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]), axis=1)
            weights = np.concatenate([1 - uv.sum(1, keepdims=True), uv], 1)
            sides = np.stack([np.linalg.norm(p[:, (k + 1) % 3] - p[:, (k + 2) % 3], axis=1) for k in range(3)], 1)
            away = (weights * area[:, None] / np.maximum(sides, 1e-12)).min(1) / pixel
            # where triangles are no larger than a few pixels their edges would be all there is
            size = np.sqrt(area) / pixel
            share = (np.clip(1.4 - away, 0, 1) * np.clip((size - 2) / 6, 0.05, 0.8))[:, None]
            out = (1 - share) * out + share * WIRE
        return np.minimum(out, 255)

    def _colors(self, corner: NDArray, uv: NDArray) -> NDArray:
        m = self.model
        if self.picture is not None and m.uv is not None:
            return looked_up(self.picture, within_faces(m.uv, corner, uv)).astype(float)
        if m.colors is not None:
            return within_faces(m.colors, corner, uv)[:, ::-1]
        return np.tile(STONE, (len(corner), 1))


@dataclass(frozen=True)
class Film:
    """What a film shows: its size, length, pictures a second, how often the model turns, and looks one after the other."""

    width: int = 1280
    height: int = 720
    seconds: float = 10.0
    rate: int = 25
    turns: float = 1.0
    rise: float = 18.0
    looks: tuple[Look, ...] = ("textured",)
    behind: tuple[int, int, int] = (238, 236, 230)
    split: bool = False

    @property
    def count(self) -> int:
        """Pictures in it."""
        return max(1, round(self.seconds * self.rate))


def frames(studio: Studio, film: Film) -> Iterator[NDArray[np.uint8]]:
    """Pictures (H, W, 3), blue, green, red, one after the other; ``split``: looks side by side along one line instead."""
    for k in range(film.count):
        view = View(30 + 360 * film.turns * k / film.count, film.rise)
        if film.split and len(film.looks) > 1:
            image = None
            step = film.width / len(film.looks)
            for n, look in enumerate(film.looks):
                one = studio.picture_of(view, film.width, film.height, look, film.behind)[..., :3]
                image = one if image is None else image
                image[:, round(n * step) :] = one[:, round(n * step) :]
            assert image is not None
            yield np.ascontiguousarray(image)
            continue
        look = film.looks[min(int(k / film.count * len(film.looks)), len(film.looks) - 1)]
        yield np.ascontiguousarray(studio.picture_of(view, film.width, film.height, look, film.behind)[..., :3])
