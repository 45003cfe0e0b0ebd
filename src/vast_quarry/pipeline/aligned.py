"""An alignment as files and figures: the solution that later layers take, ``cameras.json``, what is told of it."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any, cast

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.align.frame import Standing
from vast_quarry.core.align.growth import LAST_LOSS, WELL_PLACED, AlignInput
from vast_quarry.core.align.model import Model
from vast_quarry.core.align.sparse import trusted
from vast_quarry.core.box import KeepBox
from vast_quarry.pipeline.figures import BoxFigures, CamerasFigures, LensFigures
from vast_quarry.pipeline.solution import ALIGNED, Solution
from vast_quarry.pipeline.steps.photos import Photo, PhotoList


def _state(model: Model, photo: int, observations: NDArray[np.int64], elsewhere: NDArray[np.bool_]) -> str:
    if any(d.photo == photo for d in model.doubted):
        return "implausible"
    if not model.placed[photo]:
        return "apart" if elsewhere[photo] else "loose"
    return "placed" if observations[photo] >= WELL_PLACED else "weak"


def as_solution(
    features: Sequence[Path],
    photos: list[Photo],
    model: Model,
    standing: Standing,
    elsewhere: NDArray[np.bool_] | None = None,
) -> Solution:
    """The model in the upright frame, with only what later layers need; ``features`` are their files.

    ``elsewhere`` (n,) says which photos stand in other groups.
    """
    other = np.zeros(len(photos), bool) if elsewhere is None else elsewhere
    count = model.observations_per_photo()
    states = [_state(model, n, count, other) for n in range(len(photos))]
    rotations, centers = np.empty_like(model.rotations), np.empty_like(model.centers)
    for n in range(len(photos)):
        rotations[n], centers[n] = standing.transform.pose(model.rotations[n], model.centers[n])
    center_sigma, point_sigma = model.precision(LAST_LOSS)
    good = np.flatnonzero(model.good)
    views = np.bincount(model.track_of[model.inlier], minlength=len(model.tracks))[good]
    kept = good[trusted(model.points[good], model.grain()[good], point_sigma[good], views)]
    keep = np.zeros(len(model.tracks), bool)
    keep[kept] = True
    use = model.inlier & keep[model.track_of]
    new = np.full(len(model.tracks), -1)
    new[kept] = np.arange(len(kept))
    track = new[model.track_of[use]]
    colors = point_colors(features, model, use, track, len(kept))
    errors = model.errors()
    return Solution(
        numbers=np.array([p.number for p in photos]),
        states=states,
        rotations=rotations,
        centers=centers,
        lens_of=model.lens_of,
        lenses=model.lenses,
        points=standing.transform.points(model.points[kept]),
        colors=colors,
        start=np.concatenate([[0], np.cumsum(np.bincount(track, minlength=len(kept)))]).astype(np.int64),
        photo=model.tracks.photo[use],
        xy=model.xy[use].astype(np.float32),
        error=errors[use].astype(np.float32),
        box=standing.box,
        ground=standing.ground,
        rough=standing.rough,
        sigma=(standing.transform.scale * point_sigma[kept]).astype(np.float32),
        center_sigma=(standing.transform.scale * center_sigma).astype(np.float32),
    )


def point_colors(
    features: Sequence[Path], model: Model, use: NDArray[np.bool_], track: NDArray[np.int64], points: int
) -> NDArray[np.uint8]:
    total, count = np.zeros((points, 3)), np.zeros(points)
    photo, feature = model.tracks.photo[use], model.tracks.feature[use]
    for n, file in enumerate(features):
        mine = np.flatnonzero(photo == n)
        if len(mine):
            with np.load(file) as f:
                known = f["colors"]
            # places that were picked by hand are features beyond those that were found: they have no colour of their own
            mine = mine[feature[mine] < len(known)]
            np.add.at(total, track[mine], known[feature[mine]].astype(float))
            count += np.bincount(track[mine], minlength=points)
    return (total / np.maximum(count, 1)[:, None] + 0.5).astype(np.uint8)


def box_figures(box: KeepBox) -> BoxFigures:
    """A keep box, as it is told."""
    return cast(BoxFigures, box.as_dict())


def figures_of(
    photos: list[Photo], model: Model, solution: Solution, standing: Standing, pairs: list, data: AlignInput
) -> CamerasFigures:
    """What is told of an alignment."""
    errors = solution.error[np.isfinite(solution.error)]
    return {
        "photos": len(photos),
        "placed": solution.states.count("placed"),
        "weak": solution.states.count("weak"),
        "loose": solution.states.count("loose"),
        "implausible": solution.states.count("implausible"),
        "groups": [int(m.placed.sum()) for m in (model, *model.apart)],
        "pairs_tried": len(pairs),
        "pairs_verified": len(data.matches),
        "points": len(solution.points),
        "observations": len(solution.photo),
        "reprojection_error_px": round(float(np.sqrt((errors**2).mean())), 4) if len(errors) else None,
        "feature_noise_px": round(float(np.median(model.noise.sigma(model.scale[model.inlier]))), 4)
        if model.inlier.any()
        else None,
        "center_sigma_percent": _center_sigma(solution),
        "lenses": _lens_figures(photos, model, solution),
        "upright_by": standing.witness,
        "upright_sure": standing.sure,
        "keep_box": box_figures(standing.box),
    }


def _center_sigma(s: Solution) -> float | None:
    """Median of the stated standard deviation of centres, in per cent of the distance to the subject."""
    known = s.aligned[np.isfinite(s.center_sigma[s.aligned])]
    if not len(known):
        return None
    return round(float(np.median(s.center_sigma_percent[known])), 4)


def _lens_figures(photos: list[Photo], model: Model, solution: Solution) -> list[LensFigures]:
    """Of each lens in use: photos, focal length, where it came from, what was solved and what was held."""
    out: list[LensFigures] = []
    for g, (lens, words) in enumerate(zip(model.lenses, model.lens_words())):
        rows = [n for n in np.flatnonzero(model.lens_of == g) if solution.states[n] in ALIGNED]
        if rows:
            source = photos[int(rows[0])].focal_source
            out.append(
                {
                    "photos": len(rows),
                    "focal_px": round(lens.fx, 2),
                    "focal_from": source,
                    "focal_said_px": None if source == "guessed" else photos[int(rows[0])].focal,
                    "size": [lens.width, lens.height],
                    "solved": words["solved"],
                    "held": words["held"],
                }
            )
    return out


def cameras_document(listed: PhotoList, solution: Solution) -> dict[str, Any]:
    """``cameras.json``: every photo listed; schema in ``docs/formats.md``."""
    row_of = {int(n): k for k, n in enumerate(solution.numbers)}
    cameras: list[dict[str, Any]] = []
    for p in listed.photos:
        entry: dict[str, Any] = {
            "photo": p.path,
            "state": "left out",
            "aligned": False,
            "width": p.width,
            "height": p.height,
        }
        if p.number in row_of:
            k = row_of[p.number]
            entry["state"] = solution.states[k]
            if solution.states[k] in ALIGNED:
                lens = solution.lenses[solution.lens_of[k]]
                entry["aligned"] = True
                entry |= {n: float(getattr(lens, n)) for n in ("fx", "fy", "cx", "cy", "k1", "k2", "k3", "p1", "p2")}
                entry |= {"rotation": solution.rotations[k].tolist(), "center": solution.centers[k].tolist()}
                if np.isfinite(solution.center_sigma[k]):
                    entry["center_sigma"] = float(f"{solution.center_sigma[k]:.3g}")
        if p.frame is not None:
            entry |= {"frame": p.frame, "time": p.time}
        if p.problem:
            entry["problem"] = p.problem
        cameras.append(entry)
    return {"unit": "m" if solution.metric else "arbitrary", "cameras": cameras}
