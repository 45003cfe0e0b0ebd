"""A coarse look at everything the cameras see, before it is said what the subject is and how far the keep box reaches."""

from __future__ import annotations

import shutil
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.align.frame import Standing, reframed
from vast_quarry.core.align.model import Model
from vast_quarry.core.align.subject import focus_point
from vast_quarry.core.align.wanted import AS_LARGE, Frame, Wanted, find_wanted
from vast_quarry.core.box import KeepBox
from vast_quarry.core.dense.views import choose_sources
from vast_quarry.core.formats.atomic import read_json, write_json
from vast_quarry.core.words import Said, say
from vast_quarry.pipeline.step import Context
from vast_quarry.pipeline.steps.masks import mask_file
from vast_quarry.pipeline.steps.photos import Photo, PhotoList
from vast_quarry.pipeline.units import look as units

Array = NDArray[np.float64]

#: longer side of the photos that are looked at, and how many of them at most
SIDE, MOST = 320, 20
#: photos beside each while depths are swept, the angle (degrees) at which they help most, and photos asked whether they agree
BESIDE, ANGLE, ASKED = 5, 7.0, 9
#: depths looked at: from this share of the nearest to this of the farthest sparse points of a photo; in usual distances of the
#: cameras from what they look at
NEARER, FARTHER, NEAREST, BEYOND = 0.75, 1.25, 0.12, 1.1
#: what lies higher over the ground than this share of the cameras' distance is no ground
OFF_GROUND = 0.014
#: photos from which on it is looked
FEWEST = 3
#: another body that does so nearly as well is told of; one that does so well can be chosen, and so many of them
DOUBTED, WORTH_TELLING, MOST_OTHERS = 0.6, 0.1, 8
#: boxes about what else the subject could be, of each group of photos
SUBJECTS = "subjects-{}.json"


@dataclass
class Seen:
    """Points (N, 3) of a coarse look in the world of a standing, and the placed photos as frames."""

    points: Array
    frames: list[Frame]
    reach: float


def look(context: Context, listed: PhotoList, photos: list[Photo], model: Model, standing: Standing) -> Seen:
    """Points that photos agree about wherever they look, sparse ones among them."""
    rows = np.flatnonzero(model.placed)
    poses = {int(r): standing.transform.pose(model.rotations[r], model.centers[r]) for r in rows}
    lens = {int(r): model.lenses[int(model.lens_of[r])] for r in rows}
    frames = [Frame(lens[r], *poses[r]) for r in poses]
    centers = np.array([c for _, c in poses.values()])
    focus = focus_point(np.array([r for r, _ in poses.values()]), centers)
    reach = float(np.median(np.linalg.norm(centers - focus, axis=1)))

    use = model.inlier & model.good[model.track_of]
    track, photo = model.track_of[use], model.tracks.photo[use]
    space = standing.transform.points(model.points)
    start = np.concatenate([[0], np.cumsum(np.bincount(track, minlength=len(space)))]).astype(np.int64)
    centers_all = np.array([poses[r][1] if r in poses else np.zeros(3) for r in range(len(photos))])
    near_by = choose_sources(space, start, photo, centers_all, BESIDE, ANGLE)
    refs = [int(r) for r in rows[np.unique(np.linspace(0, len(rows) - 1, min(MOST, len(rows))).astype(int))]]
    beside = {r: [int(s) for s in near_by[r] if int(s) in poses] for r in refs}
    refs = [r for r in refs if beside[r]]
    wider = choose_sources(space, start, photo, centers_all, len(photos), 2 * ANGLE)
    known = set(refs)
    asked = {r: [int(s) for s in wider[r] if int(s) in known][:ASKED] for r in refs}

    folder = context.folder / "look"
    folder.mkdir(exist_ok=True)
    here = str(folder)
    needed = sorted(known | {s for r in refs for s in beside[r]})
    jobs = []
    for r in needed:
        mask = mask_file(context.parents["masks"], photos[r].number)
        jobs.append((here, r, str(listed.file(photos[r])), str(mask) if mask else None, lens[r], SIDE))
    small = dict(zip(needed, context.each("Looking at everything", units.small_photo, jobs)))
    at = {r: (small[r], *poses[r]) for r in needed}
    sweeps = []
    for r in refs:
        rotation, center = poses[r]
        depth = ((space[track[photo == r]] - center) @ rotation.T)[:, 2]
        depth = depth[depth > 0]
        if len(depth) < 5:
            depth = np.array([0.5 * reach, 1.5 * reach])
        near = max(NEARER * float(np.quantile(depth, 0.01)), NEAREST * reach)
        most = float(np.linalg.norm(center - focus)) + BEYOND * reach
        far = max(min(FARTHER * float(np.quantile(depth, 0.98)), most), 1.5 * near)
        sweeps.append((here, r, {k: at[k] for k in (r, *beside[r])}, beside[r], near, far))
    context.each("Looking at everything", units.look_depth, sweeps)
    least = 3 if len(refs) >= 6 else 2
    found = context.each(
        "Looking at everything", units.look_agreed,
        [(here, r, {k: at[k] for k in (r, *asked[r])}, asked[r], least) for r in refs],
    )  # fmt: skip
    shutil.rmtree(folder, ignore_errors=True)
    views = np.bincount(track, minlength=len(space))
    points = np.concatenate([*(p for p, _ in found), space[model.good & (views >= 3)]]).astype(np.float64)
    near = np.linalg.norm(points - focus, axis=1) < reach
    return Seen(points[near], frames, reach)


def with_subject(
    context: Context, listed: PhotoList, photos: list[Photo], model: Model, standing: Standing, metric: bool, group: int
) -> Standing:
    """The standing with the keep box about the subject that a coarse look shows; as it was where it shows none.

    What else the subject could be is kept as boxes in the world of the new standing (:func:`other_boxes`).
    """
    if int(model.placed.sum()) < FEWEST:
        return standing
    seen = look(context, listed, photos, model, standing)
    points = seen.points
    if standing.ground:
        points = points[points[:, 2] > max(4.0 * standing.rough, OFF_GROUND * seen.reach)]
    wanted = find_wanted(points, seen.frames, seen.reach)
    if wanted is None:
        return replace(standing, notes=[*standing.notes, _NOTHING])
    found = reframed(standing, [b.points for b in wanted.bodies], metric)
    others = [b for b in wanted.others if b.score > WORTH_TELLING * wanted.bodies[0].score][:MOST_OTHERS]
    boxes = []
    for b in others:
        other = reframed(standing, [b.points], metric)
        # corners of its box in the world of what was found, where the box is upright too
        corners = found.transform.points(other.transform.inverse().points(other.box.corners))
        boxes.append(KeepBox(tuple(corners.min(0).tolist()), tuple(corners.max(0).tolist())).as_dict())
    write_json(context.folder / SUBJECTS.format(group), boxes)
    return replace(found, notes=[*found.notes, *_told(wanted)])


def other_boxes(folder: Path, group: int) -> list[KeepBox]:
    """Boxes about what else the subject of a group of photos could be, the likeliest first."""
    file = folder / SUBJECTS.format(group)
    return [KeepBox.from_dict(b) for b in read_json(file, list)] if file.exists() else []


_NOTHING = Said(
    "Nothing stands out in the middle of the photos, so the keep box goes by the few places that are known. Look whether it holds "
    "the subject, or pull it there."
)


def _told(wanted: Wanted) -> list[Said]:
    """What is to be said of how the subject was found."""
    large = [b for b in wanted.bodies if len(b.cells) and b.large > AS_LARGE * wanted.bodies[0].large]
    out: list[Said] = []
    if len(large) > 1:
        out.append(say("The keep box holds {count} bodies that stand apart from each other.", count=len(large)))
    if wanted.doubt > DOUBTED:
        out.append(
            Said(
                "Something else keeps to the middle of the photos nearly as well as what was taken for the subject: look at the "
                "keep box, or choose the other body under “Which body is the subject”."
            )
        )
    return out
