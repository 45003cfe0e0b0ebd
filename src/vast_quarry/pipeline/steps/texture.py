"""Texture: unwrap the mesh, colour it from the best photos, hide seams, fill what no photo saw."""

from __future__ import annotations

import io
from collections.abc import Iterator
from pathlib import Path
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray
from PIL import Image
from scipy import ndimage

from vast_quarry.core.formats.atomic import atomic_write, write_arrays
from vast_quarry.core.photo.reading import load_rgb, scaled_size
from vast_quarry.core.photo.tone import Tone, apply_tone
from vast_quarry.core.raycast import RayScene
from vast_quarry.core.surface.mesh import face_areas, vertex_normals
from vast_quarry.core.texture.charts import make_charts
from vast_quarry.core.texture.coloring import ColorSum, PhotoView, even_gains, prepare_photo, spread_over_mesh
from vast_quarry.core.texture.packing import Atlas, raster_faces, unwrap
from vast_quarry.pipeline.figures import TextureFigures
from vast_quarry.pipeline.solution import Solution, load_solution
from vast_quarry.pipeline.step import Context, StepSettings, setting
from vast_quarry.pipeline.steps.masks import load_mask, mask_file
from vast_quarry.pipeline.steps.photos import Photo, PhotoList, read_photo_list
from vast_quarry.pipeline.steps.surface import load_mesh

#: sizes of atlases in texels a side
SIZES = (256, 512, 1024, 2048, 4096, 8192, 16384)


class TextureSettings(StepSettings):
    """How to colour."""

    photo_scale: float = setting(
        1.0,
        "Photo size for colour",
        "Photos are made smaller to this share of their sides before colours are taken.",
        main=True, unit="of the photo", usual=(0.5, 1), gt=0, le=1,
    )  # fmt: skip
    largest_side: int = setting(
        6000,
        "Longest side for colour",
        "Photos with a longer side are made smaller before colours are taken.",
        unit="px", usual=(3000, 9000), cost="Takes more memory.", ge=400,
    )  # fmt: skip
    largest: int = setting(
        4096,
        "Largest texture",
        "The texture gets as large as the photos' detail needs, and no larger than this.",
        main=True, unit="px a side", usual=(2048, 8192), cost="Twice the side: four times as large a file.",
        ge=64, le=32_768,
    )  # fmt: skip
    texels_per_pixel: float = setting(
        1.4,
        "Texels per photo pixel",
        "Texture pixels along a line for each pixel of the photos: more than 1 keeps what lies between pixels.",
        main=True, usual=(1, 2), cost="Twice as many: four times as large a texture.", gt=0.1, le=4,
    )  # fmt: skip
    even_out: bool = setting(
        True, "Even out brightness and colour", "Exposure and white balance are pulled together across photos.",
        main=True,
    )  # fmt: skip
    obey_masks: bool = setting(
        True, "Colour only from inside masks", "What masks leave out gives no colour to the texture."
    )
    quality: int = setting(
        95, "JPEG quality", "How little of the texture is lost when it is saved.", main=True, usual=(85, 97),
        cost="Larger files.", ge=50, le=100,
    )  # fmt: skip


class TextureStep:
    """Colours the mesh."""

    layer: ClassVar[str] = "texture"
    title: ClassVar[str] = "Texture"
    parents: ClassVar[tuple[str, ...]] = ("photos", "masks", "cameras", "surface")
    settings_model: ClassVar[type[StepSettings]] = TextureSettings

    def run(self, context: Context) -> TextureFigures:
        """Write ``model.npz`` (wedges, uv, colours) and ``texture.jpg``."""
        solution = load_solution(context.parents["cameras"])
        vertices, faces = load_mesh(context.parents["surface"])
        return texture_mesh(context, context.settings, solution, vertices, faces)


def texture_mesh(
    context: Context, settings: TextureSettings, solution: Solution, vertices: NDArray, faces: NDArray
) -> TextureFigures:
    """Unwrap and colour a mesh into ``context.folder``: ``model.npz`` and ``texture.jpg``; returns the figures."""
    normals = vertex_normals(vertices, faces)
    scene = RayScene()
    scene.add(vertices, faces)
    photos = _Photos(context, solution, scene, settings)
    context.stage("Unwrapping", 0, 1)
    area = float(face_areas(vertices, faces).sum())
    scale = 1.0 / max(solution.gsd() / settings.photo_scale, 1e-12)
    density = settings.texels_per_pixel * scale
    size = next((s for s in SIZES if s * s * 0.70 >= area * density**2), SIZES[-1])
    size = min(size, settings.largest)
    atlas = unwrap(vertices, faces, make_charts(vertices, faces), size, density * 1.5, largest=settings.largest)
    if settings.even_out:
        photos.gains = _gains(context, photos, vertices, normals, scale)
    context.stage("Laying out texels", 0, 1)
    texels, points, point_normals = _texels(atlas, vertices, normals)
    on_texels = ColorSum(points, point_normals, scale)
    on_vertices = ColorSum(vertices, normals, scale)
    for view, sharp in photos.prepared("Colouring"):
        on_texels.add(view, sharp)
        on_vertices.add(view, sharp)
    vertex_colors, vertex_seen = on_vertices.colors()
    vertex_colors = spread_over_mesh(vertex_colors, vertex_seen, faces)
    context.stage("Filling the atlas", 0, 1)
    colors, seen = on_texels.colors()
    colors[~seen] = _interpolated(texels, atlas, vertex_colors)[~seen]
    image = _filled(colors, texels, atlas.size)
    data = _encoded(image, settings.quality)
    with atomic_write(context.folder / "texture.jpg") as out:
        out.write(data)
    write_arrays(
        context.folder / "model.npz", vertices=vertices[atlas.wedge_vertex], normals=normals[atlas.wedge_vertex],
        uv=(atlas.uv + 0.5) / atlas.size, faces=atlas.faces, mesh_vertices=vertices, mesh_faces=faces,
        mesh_normals=normals, mesh_colors=(vertex_colors + 0.5).astype(np.uint8),
    )  # fmt: skip
    context.stage("Done", 1, 1)
    return {
        "atlas": atlas.size,
        "texels_per_photo_pixel": round(atlas.density / scale, 3),
        "atlas_fill_percent": round(100 * len(texels.row) / atlas.size**2, 1),
        "unseen_percent": round(100 * float((~seen).mean()), 2),
        "gain_spread_percent": round(100 * float(np.std(np.log(photos.gains))), 2),
    }


def _gains(
    context: Context, photos: _Photos, vertices: NDArray, normals: NDArray, scale: float, sample: int = 20_000
) -> NDArray[np.float64]:
    """Gain of every photo and channel from the colours of a sample of vertices."""
    rng = np.random.default_rng(0)
    pick = rng.choice(len(vertices), min(sample, len(vertices)), replace=False)
    samples = []
    for view, _ in photos.prepared("Evening out colours"):
        one = ColorSum(vertices[pick], normals[pick], scale)
        one.add(view)
        colors, seen = one.colors()
        usable = seen & (colors.min(1) > 4) & (colors.max(1) < 250)
        samples.append((np.flatnonzero(usable), colors[usable]))
    context.stage("Weighing colours", 0, 1)
    return even_gains(samples, len(pick), len(samples))


class _Photos:
    """The aligned photos, prepared one at a time so that memory stays bounded."""

    def __init__(self, context: Context, solution: Solution, scene: RayScene, settings: TextureSettings) -> None:
        self.context, self.solution, self.scene, self.settings = context, solution, scene, settings
        self.listed: PhotoList = read_photo_list(context.parents["photos"])
        by_number = {p.number: p for p in self.listed.photos}
        self.rows = [int(r) for r in solution.aligned]
        self.photos: list[Photo] = [by_number[int(solution.numbers[r])] for r in self.rows]
        self.gains = np.ones((len(self.rows), 3))
        sharp = np.array([p.sharpness or 1.0 for p in self.photos])
        self.sharp = np.clip(sharp / max(float(np.median(sharp)), 1e-6), 0.2, 1.5) ** 2

    def prepared(self, text: str) -> Iterator[tuple[PhotoView, float]]:
        """Each photo ready to colour from, with its sharpness against the others."""
        for k, (row, photo) in enumerate(zip(self.rows, self.photos)):
            self.context.stage(text, k, len(self.rows))
            longest = max(photo.width or 1, photo.height or 1)
            scale = min(self.settings.photo_scale, self.settings.largest_side / longest)
            lens = self.solution.lens(row)
            camera = lens.scaled(*scaled_size(lens.width, lens.height, scale))
            rgb = apply_tone(load_rgb(self.listed.file(photo), scale), Tone.from_dict(photo.tone))
            obey = self.settings.obey_masks
            mask = load_mask(mask_file(self.context.parents["masks"], photo.number)) if obey else None
            yield (
                prepare_photo(
                    rgb, camera, self.solution.rotations[row], self.solution.centers[row], self.scene, mask,
                    self.gains[k], blur=max(2.0, 0.005 * camera.width),
                ),
                float(self.sharp[k]),
            )  # fmt: skip
        self.context.stage(text, len(self.rows), len(self.rows))


class _Texels:
    """Covered texels: row, column, face and the weights of its corners."""

    def __init__(self, atlas: Atlas) -> None:
        face = raster_faces(atlas.uv, atlas.faces, atlas.size)
        self.row, self.column = np.nonzero(face >= 0)
        self.face = face[self.row, self.column]
        corner = atlas.uv[atlas.faces[self.face]]
        a, e1, e2 = corner[:, 0], corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0]
        det = e1[:, 0] * e2[:, 1] - e2[:, 0] * e1[:, 1]
        det = np.where(np.abs(det) < 1e-12, 1e-12, det)
        dx, dy = self.column - a[:, 0], self.row - a[:, 1]
        u = (dx * e2[:, 1] - e2[:, 0] * dy) / det
        v = (e1[:, 0] * dy - dx * e1[:, 1]) / det
        self.weights = np.stack([1 - u - v, u, v], 1).astype(np.float32)

    def mix(self, corners: NDArray) -> NDArray[np.float32]:
        """Values (K, d) from those at the corners of faces (M, 3, d)."""
        out = np.zeros((len(self.face), corners.shape[-1]), np.float32)
        for k in range(3):
            out += self.weights[:, k : k + 1] * corners[self.face, k].astype(np.float32)
        return out


def _texels(atlas: Atlas, vertices: NDArray, normals: NDArray) -> tuple[_Texels, NDArray, NDArray]:
    """Covered texels with their places and normals on the mesh."""
    texels = _Texels(atlas)
    corner_vertex = atlas.wedge_vertex[atlas.faces]
    points, n = texels.mix(vertices[corner_vertex]), texels.mix(normals[corner_vertex])
    n /= np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-9)
    return texels, points, n


def _interpolated(texels: _Texels, atlas: Atlas, vertex_colors: NDArray) -> NDArray[np.float32]:
    return np.clip(texels.mix(vertex_colors[atlas.wedge_vertex[atlas.faces]]), 0, 255)


def _filled(colors: NDArray, texels: _Texels, size: int) -> NDArray[np.uint8]:
    """The atlas as a picture, the space between charts filled from the nearest texel so that mipmaps do not bleed."""
    image = np.zeros((size, size, 3), np.uint8)
    covered = np.zeros((size, size), bool)
    image[texels.row, texels.column] = (colors + 0.5).astype(np.uint8)
    covered[texels.row, texels.column] = True
    if not covered.all():
        nearest = ndimage.distance_transform_edt(~covered, return_distances=False, return_indices=True)
        image = image[nearest[0], nearest[1]]
    return image


def _encoded(image: NDArray[np.uint8], quality: int) -> bytes:
    out = io.BytesIO()
    Image.fromarray(image).save(out, format="JPEG", quality=quality, subsampling=0)
    return out.getvalue()


def texture_bytes(folder: Path) -> bytes:
    """The encoded texture of a version of Texture."""
    return (folder / "texture.jpg").read_bytes()
