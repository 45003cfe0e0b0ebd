"""The simulated camera: several rays per pixel through a distorted thin lens, then sensor and noise.

Order of events as in a real camera: scene radiance, lens (distortion, focus blur, motion during the exposure,
vignetting), exposure, shot and read noise, white balance, sRGB tone curve.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numba import njit, prange
from numpy.typing import NDArray

from vast_quarry.core.camera import Camera, undistort
from vast_quarry.core.photo.srgb import coded
from vast_quarry.core.pose import rotation_from_vector
from vast_quarry.core.raycast import RayScene
from vast_quarry.core.rig.paint import PRINT, albedo
from vast_quarry.core.rig.scenes import Scene
from vast_quarry.core.surface.mesh import vertex_normals

Array = NDArray[np.float64]
#: rotated grid of four samples in a pixel
SAMPLES = np.array([[0.125, 0.375], [0.375, -0.125], [-0.125, -0.375], [-0.375, 0.125]])


@dataclass
class Shot:
    """One exposure: where the camera stands and what goes wrong."""

    camera: Camera
    rotation: Array
    center: Array
    #: distance of sharp focus in metres, and lens opening in metres (0: everything sharp)
    focus: float = 1.0
    opening: float = 0.0
    #: rotation vector (radians) by which the camera turns while the shutter is open
    shake: Array = field(default_factory=lambda: np.zeros(3))
    #: exposure factor and factors of red, green, blue
    exposure: float = 1.0
    balance: tuple[float, float, float] = (1.0, 1.0, 1.0)
    vignetting: float = 0.0
    #: electrons at full scale (0: no noise), and read noise in electrons
    full_well: float = 0.0
    read_noise: float = 0.0
    seed: int = 0
    #: rotation vector (radians) and way (m) by which the camera moves while its rows are read out one after the other
    row_turn: Array = field(default_factory=lambda: np.zeros(3))
    row_move: Array = field(default_factory=lambda: np.zeros(3))
    #: waviness of the lens that no Brown polynomial fits, as a share of the radius
    ripple: float = 0.0
    #: which height of the camera it is, before a still backdrop
    level: int = 0


@njit(error_model="numpy", parallel=True, cache=True)
def _make_rays(xy, rotations, center, focus, opening, row0, seed, rays):  # type: ignore[no-untyped-def]
    rows, width, samples, _ = xy.shape
    for j in prange(rows):
        for i in range(width):
            h = np.uint32((row0 + j) * 73856093) ^ np.uint32(i * 19349663) ^ np.uint32(seed)
            h = np.uint32((h ^ (h >> np.uint32(15))) * np.uint32(0x2C1B3C6D))
            turn = np.float64(h) * 1.4629180792671596e-09
            for s in range(samples):
                x = xy[j, i, s, 0]
                y = xy[j, i, s, 1]
                a = turn + s * 2.399963
                r = opening * 0.5 * np.sqrt((s + 0.5) / samples)
                lx = r * np.cos(a)
                ly = r * np.sin(a)
                dx = x - lx / focus
                dy = y - ly / focus
                for k in range(3):
                    rays[j, i, s, k] = center[k] + rotations[s, 0, k] * lx + rotations[s, 1, k] * ly
                    rays[j, i, s, 3 + k] = rotations[s, 0, k] * dx + rotations[s, 1, k] * dy + rotations[s, 2, k]


@njit(error_model="numpy", cache=True)
def _printed(sheet: NDArray[np.float32], u: float, v: float) -> float:
    """Reflectance of a printed sheet at a place in its pixels, linear between them."""
    u = min(max(u, 0.0), sheet.shape[1] - 1.001)
    v = min(max(v, 0.0), sheet.shape[0] - 1.001)
    i, j = int(u), int(v)
    a, b = u - i, v - j
    top = sheet[j, i] * (1 - a) + sheet[j, i + 1] * a
    return top * (1 - b) + (sheet[j + 1, i] * (1 - a) + sheet[j + 1, i + 1] * a) * b


@njit(error_model="numpy", parallel=True, cache=True)
def _shade(  # type: ignore[no-untyped-def]
    t, mesh, face, uv, rays, faces, face_start, vert_start, light, materials, finest, seed, sheet, sheet_at, normals, gloss,
    window, key, bald, color, subject
):  # fmt: skip
    for n in prange(t.shape[0]):
        if mesh[n] == np.uint32(0xFFFFFFFF):
            subject[n] = -1.0
            continue
        m = np.int64(mesh[n])
        f = face_start[m] + np.int64(face[n])
        u = uv[n, 0]
        v = uv[n, 1]
        base = vert_start[m]
        e = light[base + faces[f, 0]] * (1 - u - v) + light[base + faces[f, 1]] * u + light[base + faces[f, 2]] * v
        if key.any() and m == 0:
            e *= _key_light(normals, base, faces[f], u, v, key)
        x = rays[n, 0] + t[n] * rays[n, 3]
        y = rays[n, 1] + t[n] * rays[n, 4]
        z = rays[n, 2] + t[n] * rays[n, 5]
        if materials[m] == PRINT:
            r = g = b = _printed(sheet, (x - sheet_at[0]) * sheet_at[2], (sheet_at[1] - y) * sheet_at[2])
        else:
            r, g, b = albedo(materials[m], x, y, z, finest, seed, bald)
        shine = gloss * _shine(normals, base, faces[f], u, v, rays[n], window) if gloss > 0 and m == 0 else 0.0
        color[n, 0] = r * e + shine
        color[n, 1] = g * e + shine
        color[n, 2] = b * e + shine
        subject[n] = 1.0 if m == 0 else 0.0


#: where the bright window is (unit vector), and the cosine of half the angle that it fills
WINDOW = np.array([0.48, 0.72, 0.5]) / np.linalg.norm([0.48, 0.72, 0.5])
WINDOW_COSINE = 0.985


@njit(error_model="numpy", cache=True)
def _normal(normals, base, corners, u, v):  # type: ignore[no-untyped-def]
    """Unit normal within a triangle, between those of its corners."""
    n = np.empty(3)
    for k in range(3):
        n[k] = (
            normals[base + corners[0], k] * (1 - u - v)
            + normals[base + corners[1], k] * u
            + normals[base + corners[2], k] * v
        )
    return n / (np.sqrt((n * n).sum()) + 1e-12)


#: where a key light stands about what turns on a table, seen from a camera at azimuth 0 (unit vector), and the light that is everywhere besides
KEY_LIGHT = np.array([0.55, 0.6, 0.58]) / np.linalg.norm([0.55, 0.6, 0.58])
FILL_LIGHT = 0.6


@njit(error_model="numpy", cache=True)
def _key_light(normals, base, corners, u, v, key):  # type: ignore[no-untyped-def]
    """Share of the even light's that falls on a surface under a key light, with no shadows thrown (Lambert's cosine)."""
    return FILL_LIGHT + (2 - 2 * FILL_LIGHT) * max((_normal(normals, base, corners, u, v) * key).sum(), 0.0)


@njit(error_model="numpy", cache=True)
def _shine(normals, base, corners, u, v, ray, window):  # type: ignore[no-untyped-def]
    """What a glossy surface mirrors of the window, more at grazing angles (Schlick 1994): it wanders with the camera."""
    n = _normal(normals, base, corners, u, v)
    d = np.empty(3)
    for k in range(3):
        d[k] = ray[3 + k]
    d /= np.sqrt((d * d).sum()) + 1e-12
    facing = -(n * d).sum()
    if facing <= 0:
        return 0.0
    near = ((d + 2 * facing * n) * window).sum()
    fresnel = 0.04 + 0.96 * (1 - facing) ** 5
    # a lobe about the mirrored window: a surface that is no perfect mirror
    return fresnel * (0.25 + 14.0 * max(near, 0.0) ** 60)


class Studio:
    """A lit scene, ready to be photographed.

    ``gloss`` is how much the subject mirrors, ``bald`` by how much patches of all surfaces lose their texture (0 to 1),
    ``window`` whether a bright window stands behind, ``key`` whether a key light stays in the room while the subject turns.
    """

    def __init__(
        self, scene: Scene, rays: RayScene, finest: float, gloss: float = 0.0, bald: float = 0.0, window: bool = False,
        key: bool = False,
    ) -> None:  # fmt: skip
        self.scene, self.rays, self.finest = scene, rays, finest
        self.gloss, self.bald, self.window = gloss, bald, window
        self.key = key
        curved = gloss or key
        self._normals = (
            np.concatenate([vertex_normals(b.vertices, b.faces) for b in scene.bodies]) if curved else np.zeros((1, 3))
        )
        counts_f = [len(b.faces) for b in scene.bodies]
        counts_v = [len(b.vertices) for b in scene.bodies]
        self._faces = np.concatenate([b.faces for b in scene.bodies])
        self._face_start = np.cumsum([0, *counts_f])
        self._vert_start = np.cumsum([0, *counts_v])
        self._light = np.concatenate([b.light for b in scene.bodies]).astype(np.float64)
        self._materials = np.array([b.material for b in scene.bodies])

    def _key_light(self, center: Array) -> Array:
        """Where a key light stands, in the subject's own axes: the table was turned until a camera that never moved saw it from ``center``."""
        if not self.key:
            return np.zeros(3)
        x, y, _ = self.scene.room.points(center[None])[0]
        r = np.hypot(x, y)
        turn = np.array([[x, -y, 0], [y, x, 0], [0, 0, r]]) / r
        return np.asarray(self.scene.room.rotation.T @ turn @ KEY_LIGHT)

    def lit(self, base: Array, normals: Array, directions: Array, center: Array) -> Array:
        """What a camera at ``center`` sees of places of the subject (N, 3), linear, given what the even light alone shows of them
        (``base``), their unit normals, and unit directions from the camera to them: the key light and gloss in plain numpy."""
        key = self._key_light(center)
        share = FILL_LIGHT + (2 - 2 * FILL_LIGHT) * np.maximum(normals @ key, 0) if key.any() else np.ones(len(base))
        facing = -(directions * normals).sum(1)
        near = (directions + 2 * facing[:, None] * normals) @ WINDOW
        fresnel = 0.04 + 0.96 * (1 - facing) ** 5
        shine = np.where(facing > 0, self.gloss * fresnel * (0.25 + 14.0 * np.maximum(near, 0) ** 60), 0)
        return np.asarray(base * share[:, None] + shine[:, None])

    def radiance(self, shot: Shot, backdrop: NDArray[np.float32] | None = None) -> tuple[NDArray, NDArray]:
        """Linear RGB (height, width, 3) and the share of each pixel that the subject covers (height, width)."""
        cam = shot.camera
        out = np.empty((cam.height, cam.width, 3), np.float32)
        cover = np.empty((cam.height, cam.width), np.float32)
        k = len(SAMPLES)
        rotations = np.stack(
            [rotation_from_vector(shot.shake * ((s + 0.5) / k - 0.5)) @ shot.rotation for s in range(k)]
        )
        rolling = bool(shot.row_turn.any() or shot.row_move.any())
        key = self._key_light(shot.center)
        band = 2 if rolling else max(1, 400_000 // (cam.width * k))
        for row in range(0, cam.height, band):
            rows = min(band, cam.height - row)
            v, u = np.meshgrid(np.arange(row, row + rows), np.arange(cam.width), indexing="ij")
            px = np.stack([u, v], -1)[:, :, None, :] + SAMPLES
            xy = undistort(rippled(px, cam, shot.ripple), cam)
            rays = np.empty((rows, cam.width, k, 6), np.float32)
            when = (row + rows / 2) / cam.height - 0.5 if rolling else 0.0
            turned = rotation_from_vector(shot.row_turn * when) @ rotations if rolling else rotations
            _make_rays(xy, turned, shot.center + shot.row_move * when, shot.focus, shot.opening, row, shot.seed, rays)
            flat = rays.reshape(-1, 6)
            hit = self.rays.cast(flat)
            color = np.empty((len(flat), 3), np.float32)
            subject = np.empty(len(flat), np.float32)
            _shade(
                hit["t"], hit["mesh"], hit["face"], hit["uv"], flat, self._faces, self._face_start, self._vert_start,
                self._light, self._materials, self.finest, self.scene.seed, self.scene.sheet, self.scene.sheet_at,
                self._normals, self.gloss, WINDOW, key, self.bald, color, subject,
            )  # fmt: skip
            missed = subject < 0
            if missed.any():
                if backdrop is not None:
                    behind = np.repeat(backdrop[row : row + rows].reshape(-1, 3), k, axis=0)
                    color[missed] = behind[missed]
                else:
                    up = flat[missed, 3:] @ self.scene.room.rotation[2] / np.linalg.norm(flat[missed, 3:], axis=1)
                    color[missed] = np.asarray(self.scene.sky, np.float32) * (0.8 + 0.3 * up.clip(0, 1))[:, None]
                    if self.window:
                        d = flat[missed, 3:] / np.linalg.norm(flat[missed, 3:], axis=1, keepdims=True)
                        color[missed] += np.where(d @ WINDOW > WINDOW_COSINE, 9.0, 0.0)[:, None].astype(np.float32)
            out[row : row + rows] = color.reshape(rows, cam.width, k, 3).mean(2)
            cover[row : row + rows] = np.maximum(subject, 0).reshape(rows, cam.width, k).mean(2)
        return out, cover

    def photograph(self, shot: Shot, backdrop: NDArray[np.float32] | None = None) -> tuple[NDArray[np.uint8], NDArray]:
        """sRGB photo (height, width, 3) as 8 bit, and the subject's share of each pixel."""
        linear, cover = self.radiance(shot, backdrop)
        return develop(linear, shot), cover


def rippled(px: Array, camera: Camera, ripple: float) -> Array:
    """Pixels (..., 2) as a lens without the waviness would have them: a wave along the radius, nothing at the middle."""
    if not ripple:
        return px
    c = np.array([camera.cx, camera.cy])
    q = px - c
    r = np.linalg.norm(q, axis=-1, keepdims=True) / (0.5 * np.hypot(camera.width, camera.height))
    return np.asarray(c + q * (1 + ripple * np.sin(3 * np.pi * r)))


def exposed(linear: NDArray[np.float32], shot: Shot) -> NDArray[np.float32]:
    """Signal of the sensor (H, W, 3) of the radiance in front of the lens, with its noise and white balance."""
    cam = shot.camera
    rng = np.random.default_rng(shot.seed)
    signal = linear * shot.exposure
    if shot.vignetting:
        v, u = np.meshgrid(np.arange(cam.height), np.arange(cam.width), indexing="ij")
        r2 = ((u - cam.cx) / cam.fx) ** 2 + ((v - cam.cy) / cam.fy) ** 2
        signal = signal * (1 - shot.vignetting + shot.vignetting / (1 + r2) ** 2)[..., None]
    if shot.full_well:
        electrons = signal * shot.full_well
        electrons = electrons + rng.standard_normal(electrons.shape, dtype=np.float32) * np.sqrt(
            np.maximum(electrons, 0) + shot.read_noise**2
        )
        signal = electrons / shot.full_well
    return np.asarray(signal * np.asarray(shot.balance, np.float32), np.float32)


def develop(linear: NDArray[np.float32], shot: Shot) -> NDArray[np.uint8]:
    """What a camera without faults of its own makes of the radiance in front of the lens."""
    return to_srgb8(exposed(linear, shot))


def to_srgb8(linear: NDArray) -> NDArray[np.uint8]:
    """Linear light to 8-bit sRGB (IEC 61966-2-1)."""
    return (coded(np.clip(linear, 0.0, 1.0)) * 255.0 + 0.5).astype(np.uint8)
