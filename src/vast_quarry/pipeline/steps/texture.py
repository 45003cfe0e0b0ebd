"""Texture: unwrap the mesh, colour it from the best photos, hide seams, fill what no photo saw."""

from __future__ import annotations

import shutil
from dataclasses import replace
from pathlib import Path
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.camera import Camera
from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import atomic_write, is_whole, write_arrays
from vast_quarry.core.surface.mesh import face_areas, vertex_normals
from vast_quarry.core.texture.coloring import even_gains, spread_over_mesh
from vast_quarry.core.texture.light import unlit
from vast_quarry.core.texture.seams import seam_visibility
from vast_quarry.core.texture.texels import fill_between
from vast_quarry.core.words import say
from vast_quarry.pipeline.atlas_files import MOST_SIDE, check_room, joined_bands
from vast_quarry.pipeline.figures import HeldOut, TextureFigures
from vast_quarry.pipeline.orders import PhotoOrder, photo_orders
from vast_quarry.pipeline.solution import Solution, load_solution
from vast_quarry.pipeline.step import Context, StepSettings, setting
from vast_quarry.pipeline.steps.photos import read_photo_list
from vast_quarry.pipeline.steps.surface import load_foot, load_mesh
from vast_quarry.pipeline.units import color as units

#: sizes of atlases in texels a side
SIZES = (256, 512, 1024, 2048, 4096, 8192, 16384)
#: how much more of a photo takes that is read in 16 bits
DEEPER = 1.5
#: vertices whose colours photos are compared by
PICKED = 20_000
#: texels of a band of the atlas, and vertices, that one unit colours at most; into how many such units small ones are parted
BAND, VERTICES, PARTS = 1 << 20, 200_000, 4
#: bytes that units take: a pixel of a photo that is read, and of one that is shown; a texel of a band; a face to be unwrapped
PHOTO_BYTES, SHOWN_BYTES, TEXEL_BYTES, FACE_BYTES = 60.0, 8.0, 220.0, 1500.0


class TextureSettings(StepSettings):
    """How to colour."""

    came_later: ClassVar[frozenset[str]] = frozenset({"agree", "kept_back", "crisp", "unlit", "tiles", "lay", "bits"})

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
    agree: bool = setting(
        True,
        "Ignore outlier colours",
        "A passer-by, a highlight or a reflection that only one photo shows gives no colour.",
        main=True,
    )
    lay: bool = setting(
        True,
        "Correct small photo shifts",
        "Where a photo lies off what the others show by more than half a pixel it is moved there: for lenses that bend otherwise than "
        "their model says, and for what the surface is off.",
    )
    crisp: float = setting(
        0.5,
        "Sharpening",
        "A model drawn from a texture is softer than the photos by about a pixel. So much of that is put back: 1 for photos a camera "
        "left soft, 0 for such as it sharpened much.",
        main=True, usual=(0, 1), cost="Too much shows as bright rims along edges.", ge=0, le=2,
    )  # fmt: skip
    tiles: int = setting(
        1,
        "Pictures along a side of the texture",
        "More than 1: the texture is cut into so many pictures squared, each no larger than the largest texture, numbered as UDIM has it.",
        usual=(1, 2), cost="Twice as many: four times as large a texture.", ge=1, le=4,
    )  # fmt: skip
    unlit: float = setting(
        0.0,
        "Light taken out",
        "So much of the light that fell on the subject is taken out of the colours, so that they can be lit anew: the sky, what the "
        "subject hides of it, and a sun with its shadows where there was one.",
        usual=(0, 1), cost="Paint that happens to follow the light goes with it.", ge=0, le=1,
    )  # fmt: skip
    kept_back: int = setting(
        0,
        "Check photos",
        "So many photos give no colour: they test the texture from places it was not made from.",
        usual=(0, 6), cost="The texture lacks what only they show.", ge=0, le=200,
    )  # fmt: skip
    obey_masks: bool = setting(
        True, "Colour only from inside masks", "What masks leave out gives no colour to the texture."
    )
    bits: str = setting(
        "8",
        "Bits of each colour",
        "16: the texture is kept as PNG of 16 bits besides, of raw and 16-bit photos with all that they hold; OBJ comes with that one.",
        labels={"8": "8", "16": "16"}, pattern="^(8|16)$", cost="Six bytes for each of its pixels, a little less packed.",
    )  # fmt: skip
    quality: int = setting(
        95, "JPEG quality", "How little of the texture is lost when it is saved.", usual=(85, 97),
        cost="Larger files.", ge=50, le=100,
    )  # fmt: skip


#: share of what a photo shows that others contradict from which it is named
MUCH = 0.1
#: an atlas that is larger than it has to be is filled, with up to so many times the texels along a line
FINER = 2.2
#: where photos that were kept back lie beside the model, and the longest side at which they are held against it
HELD, CHECKED_SIDE = "held", 2000


class TextureStep:
    """Colours the mesh."""

    layer: ClassVar[str] = "texture"
    title: ClassVar[str] = "Texture"
    parents: ClassVar[tuple[str, ...]] = ("photos", "masks", "cameras", "surface")
    settings_model: ClassVar[type[StepSettings]] = TextureSettings

    def run(self, context: Context) -> TextureFigures:
        """Write ``model.npz`` (wedges, uv, colours), ``texture.jpg`` and ``seen.png``."""
        solution = load_solution(context.parents["cameras"])
        vertices, faces = load_mesh(context.parents["surface"])
        foot = load_foot(context.parents["surface"] / "mesh.npz")
        return texture_mesh(context, context.settings, solution, vertices, faces, foot)


def texture_mesh(
    context: Context, settings: TextureSettings, solution: Solution, vertices: NDArray, faces: NDArray, foot: float
) -> TextureFigures:
    """Unwrap and colour a mesh into ``context.folder``: ``model.npz`` and ``texture.jpg``; returns the figures.

    What lies below ``foot`` takes its colour from above: photos show the ground there.
    """
    folder = context.folder / "colour"
    folder.mkdir(exist_ok=True)
    here = str(folder)
    if not is_whole(folder / "mesh.npz"):
        write_arrays(folder / "mesh.npz", vertices=vertices, faces=faces, foot=foot)
    area = float(face_areas(vertices, faces).sum())
    scale = 1.0 / max(solution.gsd() / settings.photo_scale, 1e-12)
    density = settings.texels_per_pixel * scale
    size = next((s for s in SIZES if (s * settings.tiles) ** 2 * 0.70 >= area * density**2), SIZES[-1])
    size, largest = min(size, settings.largest) * settings.tiles, settings.largest * settings.tiles
    deep = settings.bits == "16"
    check_room(size, settings.tiles, deep, SIZES)
    largest = max(size, min(largest, MOST_SIDE))
    # what the atlas has room for: photos need not be finer than that
    finest = min(density * FINER, size * float(np.sqrt(0.86 / max(area, 1e-300))))
    reading = units.Reading(settings.crisp, settings.lay, deep)
    photo_bytes, shown_bytes = (b * (DEEPER if deep else 1.0) for b in (PHOTO_BYTES, SHOWN_BYTES))
    photos, held = parted(_orders(context, solution, settings, finest), settings.kept_back)
    context.each(
        "Unwrapping and reading photos", units.prepare,
        [
            (here, order, scale, PICKED, reading)
            for order in (units.AtlasOrder(size, density * FINER, largest, settings.tiles), *photos)
        ],
        memory=[FACE_BYTES * len(faces), *(photo_bytes * o.camera.width * o.camera.height for o in photos)],
    )  # fmt: skip
    voices = _voices(context, settings, photos, here, min(PICKED, len(vertices)))
    most = max((o.camera.width * o.camera.height for o in photos), default=0)
    lies = _laid(context, here, voices, len(vertices), shown_bytes * most) if settings.lay else None
    vertex_colors, told = _vertex_colors(
        context, here, voices, faces, len(vertices), scale, settings.agree, shown_bytes * most
    )
    atlas = units.load_atlas(here)
    check_room(atlas.size, settings.tiles, deep, SIZES)
    rows = max(1, min(BAND // atlas.size, -(-atlas.size // PARTS)))
    out_of = _light(context, here, len(vertices), settings.unlit) if settings.unlit > 0 and voices else None
    if out_of is not None:
        vertex_colors = _unlit_vertices(here, vertices, faces, vertex_colors, out_of)
    bands = [(here, r, min(r + rows, atlas.size), voices, scale, out_of, deep) for r in range(0, atlas.size, rows)]
    context.each(
        "Colouring", units.color_band, bands, memory=[TEXEL_BYTES * rows * atlas.size + shown_bytes * most] * len(bands)
    )
    context.stage("Filling the atlas", 0, 1)
    sheets = joined_bands(folder, atlas.size, [b[1] for b in bands], deep)
    seams = seam_visibility(sheets.picture, sheets.source)
    fill_between(sheets.picture, sheets.kind)
    covered = sum(int(np.count_nonzero(sheets.kind[a:b])) for _, a, b, *_ in bands)
    guessed = sum(int(np.count_nonzero(sheets.kind[a:b] == units.GUESSED)) for _, a, b, *_ in bands)
    sheets.write(context.folder, settings.quality)
    del sheets
    normals = vertex_normals(vertices, faces)
    write_arrays(
        context.folder / "model.npz", vertices=vertices[atlas.wedge_vertex], normals=normals[atlas.wedge_vertex],
        uv=(atlas.uv + 0.5) / atlas.size, faces=atlas.faces, mesh_vertices=vertices, mesh_faces=faces,
        mesh_normals=normals, mesh_colors=(vertex_colors + 0.5).astype(np.uint8), foot=foot,
        tiles=settings.tiles,
    )  # fmt: skip
    checked = _checked(context, here, held)
    units.load_atlas.cache_clear()
    shutil.rmtree(folder, ignore_errors=True)
    context.stage("Done", 1, 1)
    figures: TextureFigures = {
        "atlas": atlas.size,
        "texels_per_photo_pixel": round(atlas.density / scale, 3),
        "atlas_fill_percent": round(100 * covered / atlas.size**2, 1),
        "unseen_percent": round(100 * guessed / max(covered, 1), 2),
        "gain_spread_percent": round(100 * float(np.std(np.log([v.gain for v in voices]))), 2) if voices else 0.0,
    }
    if seams is not None:
        figures["seam_visibility"] = round(seams, 3)
    if lies is not None:
        figures["misfit_px"], figures["photos_moved"] = lies
    if settings.agree:
        figures["contradicted_percent"] = round(_contradicted(context, voices, told), 2)
    if checked:
        figures["held_out"] = checked
        figures["psnr_db"] = round(float(np.median([c["psnr_db"] for c in checked])), 2)
        figures["ssim"] = round(float(np.median([c["ssim"] for c in checked])), 4)
    return figures


def _light(context: Context, folder: str, count: int, amount: float) -> units.Unlit:
    """The light that fell on the subject, told in words; how it fell on each vertex is kept as a file for the bands."""
    (light,) = context.each("Working out the light", units.light_of, [(folder, PICKED)])
    starts = range(0, count, VERTICES // 4)
    jobs = [(folder, a, min(a + VERTICES // 4, count), light) for a in starts]
    sky = np.concatenate(context.each("Light of each place", units.sky_light, jobs))
    with atomic_write(Path(folder) / units.SKY_LIGHT) as out:
        np.save(out, sky)
    where = light.from_where
    context.found(
        say(
            "Light taken out, {percent} % of it: a sky that lit the brightest tenth {times} times as much as the darkest; no sun was found.",
            percent=round(100 * amount), times=f"{light.spread:.1f}",
        )
        if where is None
        else say(
            "Light taken out, {percent} % of it: a sky, and a sun {height}° high, at {turn}° from X towards Y, with its shadows; the brightest tenth had {times} times as much as the darkest.",
            percent=round(100 * amount), times=f"{light.spread:.1f}", height=round(where[1]), turn=round(where[0]),
        )
    )  # fmt: skip
    return units.Unlit(light, amount)


def _unlit_vertices(
    folder: str, vertices: NDArray, faces: NDArray, colors: NDArray[np.float32], out_of: units.Unlit
) -> NDArray[np.float32]:
    """Colours of vertices without the light that is taken out."""
    sky = np.load(Path(folder) / units.SKY_LIGHT)
    sun = units.sun_light(folder, vertices, vertex_normals(vertices, faces), out_of.light)
    return unlit(colors, sky + sun, out_of.amount)


def parted(photos: list[PhotoOrder], back: int) -> tuple[list[PhotoOrder], list[PhotoOrder]]:
    """Photos to colour from, and those that are kept back, spread evenly over all.

    Raises
    ------
    PlainError
        When fewer than half would be left.
    """
    if back > len(photos) // 2:
        raise PlainError(
            say("{back} photos cannot be kept back of {photos}.", back=back, photos=len(photos)),
            say("Keep {most} back at most.", most=len(photos) // 2),
        )
    held = {int((k + 0.5) * len(photos) / back) for k in range(back)}
    return [p for k, p in enumerate(photos) if k not in held], [photos[k] for k in sorted(held)]


def _checked(context: Context, folder: str, held: list[PhotoOrder]) -> list[HeldOut]:
    """Photos that were kept back, held against the model."""
    if not held:
        return []
    (context.folder / HELD).mkdir(exist_ok=True)
    texture = str(context.folder / "texture.jpg")
    orders = [smaller(o, CHECKED_SIDE) for o in held]
    jobs = [(folder, texture, o, str(context.folder / HELD / f"{o.row:05d}")) for o in orders]
    found = context.each("Holding photos against the model", units.check_photo, jobs)
    name = {p.number: p.path for p in read_photo_list(context.parents["photos"]).photos}
    numbers = load_solution(context.parents["cameras"]).numbers
    return [{**c, "photo": name.get(int(numbers[c["row"]]), "?")} for c in found if c is not None]


def smaller(order: PhotoOrder, side: int) -> PhotoOrder:
    """The same photo with no side longer than ``side``."""
    factor = min(1.0, side / max(order.camera.width, order.camera.height))
    size = max(1, round(order.camera.width * factor)), max(1, round(order.camera.height * factor))
    return replace(order, scale=order.scale * factor, camera=order.camera.scaled(*size))


def _contradicted(context: Context, voices: list[units.Voice], told: list[dict[int, tuple[int, int]]]) -> float:
    """Per cent of what photos show that others contradict; those who are contradicted much are named."""
    of = {v.order.row: np.sum([t.get(v.order.row, (0, 0)) for t in told], axis=0) for v in voices}
    asked, against = np.sum([*of.values(), (0, 0)], axis=0)
    loud = {row: b / a for row, (a, b) in of.items() if a >= PICKED // 100 and b / a > MUCH}
    if loud:
        names = {v.order.row: Path(v.order.file).name for v in voices}
        worst = sorted(loud, key=lambda row: -loud[row])
        listed = ", ".join(f"{names[row]} ({100 * loud[row]:.0f} %)" for row in worst[:5])
        context.found(
            say(
                "{count} photos show over a tenth of the surface in other colours than the others do; that part of them gave none: {photos}.",
                count=len(worst), photos=listed,
            )
        )  # fmt: skip
    return 100 * float(against) / max(float(asked), 1.0)


def _orders(context: Context, solution: Solution, settings: TextureSettings, finest: float) -> list[PhotoOrder]:
    """The aligned photos, none read finer than ``finest`` texels per world unit can show."""

    def scale_of(row: int, lens: Camera) -> float:
        scale = min(settings.photo_scale, settings.largest_side / max(lens.width, lens.height))
        # texels in a pixel of the photo: fewer than three quarters, and detail between them would come out as grain
        within = finest * solution.distance(row) / lens.fx
        return min(scale, max(within / 0.75, 0.05))

    return photo_orders(context.parents, solution, scale_of, settings.obey_masks)


def _voices(
    context: Context, settings: TextureSettings, photos: list[PhotoOrder], folder: str, picked: int
) -> list[units.Voice]:
    """What each photo counts: gains that bring their colours together, and sharpness against the others."""
    context.stage("Weighing colours", 0, 1)
    gains = np.ones((len(photos), 3))
    if settings.even_out and photos:
        gains = even_gains([units.sampled_colors(folder, o.row) for o in photos], picked, len(photos))
    sharp = np.array([o.sharpness for o in photos])
    sharp = np.clip(sharp / max(float(np.median(sharp)), 1e-6), 0.2, 1.5) ** 2 if len(sharp) else sharp
    return [units.Voice(o, g, float(s)) for o, g, s in zip(photos, gains, sharp)]


def _laid(
    context: Context, folder: str, voices: list[units.Voice], count: int, memory: float
) -> tuple[float, int] | None:
    """Photos laid onto the surface; how far one lies off the others in the middle, in pixels, and how many were moved. None where
    that could not be told."""
    text = "Laying photos onto the surface"
    found: list[units.Laid] = []
    for turn in range(units.TURNS):
        context.each(text, units.sum_shown, [(folder, voices, count, turn)])
        found = context.each(text, units.lay, [(folder, v, turn) for v in voices], memory=[memory] * len(voices))
        if not any(f.moved for f in found):
            break
    off = [f.off for f in found if np.isfinite(f.off)]
    if not off:
        return None
    moved = sorted(((f.moved, v) for f, v in zip(found, voices) if f.moved > 0), key=lambda m: -m[0])
    if moved:
        listed = ", ".join(f"{Path(v.order.file).name} ({m:.1f} px)" for m, v in moved[:5])
        context.found(
            say(
                "{count, plural, one {# photo was} other {# photos were}} shifted by more than half a pixel in places, and corrected: {photos}.",
                count=len(moved), photos=listed,
            )
        )  # fmt: skip
    return round(float(np.median(off)), 3), len(moved)


def _vertex_colors(
    context: Context,
    folder: str,
    voices: list[units.Voice],
    faces: NDArray,
    count: int,
    scale: float,
    agree: bool,
    memory: float,
) -> tuple[NDArray[np.float32], list[dict[int, tuple[int, int]]]]:
    """Colours of all vertices (N, 3), also kept as a file for the bands: where no photo saw anything, those show it; and what photos
    were asked and contradicted."""
    step = max(1, min(VERTICES, -(-count // PARTS)))
    starts = range(0, count, step)
    jobs = [(folder, a, min(a + step, count), voices, scale, agree) for a in starts]
    told = context.each("Colouring vertices", units.color_vertices, jobs, memory=[memory] * len(jobs))
    colors, seen, expected = [], [], []
    for a in starts:
        with np.load(Path(folder) / f"vertices-{a:09d}.npz") as f:
            colors.append(f["colors"])
            seen.append(f["seen"])
            if agree:
                expected.append(f["expected"])
    if agree:
        with atomic_write(Path(folder) / "vertex-expected.npy") as out:
            np.save(out, np.concatenate(expected))
    whole = spread_over_mesh(np.concatenate(colors), np.concatenate(seen), faces)
    with atomic_write(Path(folder) / "vertex-colors.npy") as out:
        np.save(out, whole)
    return whole, told
