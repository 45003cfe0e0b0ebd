"""How masks of a set are made: which way is taken, what has to be learnt first, photo by photo, and what is known already."""

from __future__ import annotations

import hashlib
import json
import os
import shutil
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import link_or_copy, read_json, write_arrays, write_json
from vast_quarry.core.mask.files import mask_path
from vast_quarry.core.mask.projected import usual_distance
from vast_quarry.core.mask.stands import FEWEST, Stands, stands_of
from vast_quarry.core.mask.still import MOST
from vast_quarry.core.mask.suggest import suggest
from vast_quarry.core.words import Said, say
from vast_quarry.pipeline.mask_edits import edits_by_photo
from vast_quarry.pipeline.solution import ALIGNED, Solution, load_solution
from vast_quarry.pipeline.step import Context
from vast_quarry.pipeline.steps.photos import PhotoList, read_photo_list
from vast_quarry.pipeline.store import Store, Version
from vast_quarry.pipeline.units import mask as units

if TYPE_CHECKING:
    from vast_quarry.pipeline.steps.masks import MasksSettings

#: share of the longer side by which the rim of a projected surface, and of points, may be off
MARGIN_SURFACE, MARGIN_POINTS = 0.008, 0.02


class Masking:
    """Masks of one set: what was decided, and why."""

    def __init__(self, context: Context, listed: PhotoList) -> None:
        self.context, self.listed = context, listed
        self.settings: MasksSettings = context.settings
        self.photos = listed.usable
        self.way: str = self.settings.way
        self.why: Said | None = None
        #: versions that a projected model came from
        self.made_from: dict[str, int] = {}
        self._edits = edits_by_photo(self.settings.edits)

    def make(self) -> list[units.Made]:
        """Make all masks; what came of each photo, in the order of the list."""
        for name in ("masks", "base", "study"):
            (self.context.folder / name).mkdir(exist_ok=True)
        orders = self._orders()
        key = self._key(orders)
        known = self._known(key)
        if known is not None:
            self.way, why, self.made_from, rows = known
            self.why = why
            orders = [replace(o, known=rows.get(p.path, ("", None))) for o, p in zip(orders, self.photos)]
        else:
            orders = self._prepared(orders)
        made = self.context.each("Making masks", units.make_mask, [(o,) for o in orders])
        if self.way == "carry" and known is None:
            made = self._carry(orders, made)
        shutil.rmtree(self.context.folder / "study", ignore_errors=True)
        write_json(self.context.folder / "edits.json", self._edits)
        write_json(
            self.context.folder / "masks.json",
            {
                "way": self.way, "why": str(self.why or ""), "key": key, "made_from": self.made_from,
                "photos": {
                    p.path: {"way": m.way, "share": m.share, "sure": m.sure, "edited": m.edited}
                    for p, m in zip(self.photos, made)
                },
            },
        )  # fmt: skip
        return made

    def _orders(self) -> list[units.Order]:
        s, out = self.settings, []
        folder = Path(s.folder) if s.folder else None
        for p in self.photos:
            found = mask_path(folder, p.path) if folder else None
            name = f"{p.number:05d}.png"
            out.append(
                units.Order(
                    str(self.listed.file(p)), int(p.width or 1), int(p.height or 1), str(self.context.folder / "masks" / name),
                    str(self.context.folder / "base" / name), s.way, str(found) if found else None, s.black_keeps, s.alpha,
                    s.key_colors, s.tolerance, s.softness, network=s.network, margin_px=s.margin_px, edits=json.dumps(self._edits.get(p.path, [])),
                )
            )  # fmt: skip
        return out

    def _key(self, orders: Sequence[units.Order]) -> str:
        """What masks before edits depend on."""
        given = self.settings.model_dump(mode="json", exclude={"edits", "folder", "model", "network"})
        rows: list[Any] = []
        for p, o in zip(self.photos, orders):
            s = os.stat(o.file) if o.file else None
            rows.append([p.path, p.sha, o.file and Path(o.file).name, s and s.st_size, s and s.st_mtime_ns])
        if self.settings.way == "carry":  # there the edits of some photos make the masks of others
            rows.append(self._edits)
        if self.settings.way == "network" and self.settings.network:
            rows.append(Path(self.settings.network).stat().st_mtime_ns if Path(self.settings.network).exists() else 0)
        text = json.dumps([given, rows, model_stamp(self.settings.model) if self._asks_for_model else None])
        return hashlib.sha256(text.encode()).hexdigest()[:20]

    @property
    def _asks_for_model(self) -> bool:
        return self.settings.way in ("model", "suggest")

    def _known(self, key: str) -> tuple[str, Said | None, dict[str, int], dict[str, tuple[str, float | None]]] | None:
        """What an earlier version found of the same, its masks before edits linked into this one's ``base``."""
        for folder in sorted(self.context.folder.parent.glob("[0-9]*"), key=lambda f: f.name):
            try:
                seen = read_json(folder / "masks.json")
            except (OSError, ValueError):
                continue
            if seen.get("key") != key:
                continue
            rows = {}
            for p in self.photos:
                row = seen["photos"].get(p.path)
                if row is None:
                    return None
                rows[p.path] = ("" if row["way"] == "hand" else row["way"], row["sure"])
                name = f"{p.number:05d}.png"
                source = folder / "base" / name
                if not source.exists() and not row["edited"]:
                    source = folder / "masks" / name
                target = self.context.folder / "base" / name
                if source.exists() and not target.exists():
                    link_or_copy(source, target)
            return seen["way"], _reason(seen["why"]), seen["made_from"], rows
        return None

    def _prepared(self, orders: list[units.Order]) -> list[units.Order]:
        """Orders with what the way needs: studies of stands, seats of cameras."""
        need = [k for k, o in enumerate(orders) if not o.file]
        if self.way == "network" and self.settings.network is None:
            raise PlainError(
                "There is no network to find the subject with.",
                "Put its ONNX file into the data folder, named network.onnx, or give it with --network; see docs/masks.md.",
            )
        if self.way in ("files", "colour", "focus", "carry", "network") or not need:
            return orders
        if self.way in ("suggest", "still"):
            look = self.way == "suggest"
            glimpses = self.context.each(
                "Looking at photos", units.glimpse, [(orders[k].photo, look and n % 5 == 0) for n, k in enumerate(need)]
            )
            stands, alike = stands_of([g.tiny for g in glimpses])
            if look:
                focus = [g.focus for g in glimpses if g.focus is not None]
                aligned = self.settings.model is not None and model_versions(Path(self.settings.model)) is not None
                way, self.why = suggest(stands, [g.plain for g in glimpses if g.plain is not None], focus, aligned)
                self.way = way if way != "none" else "files"
            if self.way == "still":
                orders = self._studied(orders, [need[n] for n in alike], stands)
        if self.way == "model":
            orders = self._seated(orders)
        return [replace(o, way=self.way) for o in orders]

    def _studied(self, orders: list[units.Order], rows: list[int], stands: Stands) -> list[units.Order]:
        """Learn what stands still before each stand of the camera."""
        out, jobs = list(orders), []
        alone = [rows[n] for n in np.flatnonzero(~stands.told)]
        for g in np.unique(stands.numbers):
            mine = [rows[n] for n in np.flatnonzero(stands.numbers == g)]
            if len(mine) < FEWEST:
                continue
            target = str(self.context.folder / "study" / f"{g:04d}.npz")
            some = np.unique(np.linspace(0, len(mine) - 1, min(len(mine), MOST)).astype(int))
            jobs.append(([orders[mine[k]].photo for k in some], target))
            for k in mine:
                out[k] = replace(out[k], study=target)
        if not jobs:
            raise PlainError(
                "The camera did not stand still: no four photos show the same behind the subject.",
                "Choose another way, or let it be suggested.",
            )
        self.context.each("Learning the backdrop", units.study_stand, jobs)
        if alone:
            self.context.found(
                say(
                    "{count, plural, one {# photo was} other {# photos were}} taken from a place where fewer than four were, "
                    "so what stands still is not known there: no mask.",
                    count=len(alone),
                )
            )
        return out

    def _seated(self, orders: list[units.Order]) -> list[units.Order]:
        """Give each photo that was aligned its place before the model."""
        root = Path(self.settings.model) if self.settings.model else None
        found = model_versions(root) if root else None
        if root is None or found is None:
            # a recipe that is replayed comes by here before there is one
            self.context.found(
                Said(
                    "There is no alignment yet whose model could be projected, so no photo got a mask. Run Masks again later."
                )
            )
            return orders
        store = Store(root)
        solution = load_solution(store.folder(found["cameras"]))
        before = Version.model_validate(
            read_json(store.root / "photos" / str(found["cameras"].parents["photos"]) / "version.json")
        )
        named = {p.number: p.path for p in read_photo_list(store.folder(before)).photos}
        rows = {named[int(n)]: k for k, n in enumerate(solution.numbers) if solution.states[k] in ALIGNED}
        file, surface = self._model(store, found, solution)
        self.made_from = {k: v.number for k, v in found.items()}
        out = []
        for o, p in zip(orders, self.photos):
            row = rows.get(p.path)
            if row is not None and (solution.lens(row).width, solution.lens(row).height) == (p.width, p.height):
                seat = units.Seat(
                    solution.lens(row), solution.rotations[row], solution.centers[row], str(file), surface,
                    MARGIN_SURFACE if surface else MARGIN_POINTS,
                )  # fmt: skip
                o = replace(o, seat=seat)
            out.append(o)
        return out

    def _model(self, store: Store, found: dict[str, Version], solution: Solution) -> tuple[Path, bool]:
        """The best there is: the surface, the dense cloud, or the sparse points, those in the keep box and above the ground."""
        if "surface" in found:
            return store.folder(found["surface"]) / "mesh.npz", True
        if "points" in found:
            with np.load(store.folder(found["points"]) / "cloud.npz") as f:
                points = f["points"].astype(np.float64)
        else:
            points = solution.points
        points = points[solution.box.inside(points)]
        if solution.ground and len(points):
            height = float(solution.box.high[2])
            points = points[points[:, 2] > max(3 * solution.rough, 0.015 * height)]
        if len(points) < 30:
            raise PlainError(
                "Too few points lie in the keep box to make masks from.",
                "Run Points or Surface first, or widen the box.",
            )
        target = self.context.folder / "study" / "points.npz"
        write_arrays(target, points=points, reach=np.array(usual_distance(points)))
        return target, False

    def _carry(self, orders: list[units.Order], made: list[units.Made]) -> list[units.Made]:
        """Carry masks that are there over to the photos between, each from the nearest in the order of the list."""
        sources = [k for k, m in enumerate(made) if m.share is not None and 0 < m.share < 1]
        if not sources:
            raise PlainError(
                "No photo has a mask yet that could be carried over.",
                "Outline the subject in one photo first, then run again.",
            )
        nearest = [min(sources, key=lambda s, k=k: abs(s - k)) for k in range(len(made))]  # type: ignore[misc]
        chains: list[tuple[int, list[int]]] = []
        for s in sources:
            for step in (1, -1):
                chain, k = [], s + step
                while 0 <= k < len(made) and nearest[k] == s and k not in sources:
                    chain.append(k)
                    k += step
                if chain:
                    chains.append((s, chain))
        done = self.context.each(
            "Carrying masks over",
            units.carry_chain,
            [(orders[s].photo, orders[s].target, [orders[k] for k in chain]) for s, chain in chains],
        )
        out, stopped = list(made), 0
        for (_, chain), results in zip(chains, done):
            for k, m in zip(chain, results):
                out[k] = m
                stopped += m.share is None
        if stopped:
            self.context.found(
                say(
                    "{count, plural, one {# photo} other {# photos}} got no mask: carried so far it is not sure any more. Outline "
                    "the subject in one of them too.",
                    count=stopped,
                )
            )
        return out


def _reason(kept: str) -> Said | None:
    """Why a way was taken, as an earlier version kept it."""
    return Said(kept) if kept else None


def model_versions(root: Path) -> dict[str, Version] | None:
    """Versions in use of Cameras and, made from them, of Points and Surface; None without an alignment."""
    store = Store(root)
    in_use = store.in_use()
    found: dict[str, Version] = {}
    for layer, parent in (("cameras", ""), ("points", "cameras"), ("surface", "points")):
        version = next((v for v in store.versions(layer) if v.number == in_use.get(layer)), None)
        if version is None or (parent and version.parents.get(parent) != found[parent].number):
            break
        found[layer] = version
    return found or None


def model_stamp(root: str | None) -> str:
    """Which versions a projected model would come from."""
    found = model_versions(Path(root)) if root else None
    return json.dumps({k: v.key for k, v in (found or {}).items()})
