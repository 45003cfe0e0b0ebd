"""Real photographs: what people's cameras gave, with truth that does not come from us.

Sources
-------
- ``cube``: 80 frames of 384 x 288 by a frame grabber, a box with white dots moved over by hand, in Debian's
  ``visp-images-data`` (Copyright Inria, GPL-2). Fetched into a cache outside the project when the tests are set up
  (scripts/real-photos.sh), never shipped or committed, nor anything derived from it. The dots of its top lie on a regular grid,
  that of the side on a plane at right angles to it.
- ``left01`` to ``left14``: a chessboard held before a still camera, with its calibration (``left_intrinsics.yml``), in Debian's
  ``opencv-doc`` (BSD-3).
"""

from __future__ import annotations

import itertools
import json
import os
import shutil
from pathlib import Path

import cv2
import numpy as np
import pytest
from typer.testing import CliRunner

from vast_quarry.cli.main import app
from vast_quarry.core.camera import Camera, project, undistort
from vast_quarry.core.errors import PlainError
from vast_quarry.core.pose import fit_similarity

CHESS = Path("/usr/share/doc/opencv-doc/examples/data")
CACHE = Path(os.environ.get("VAST_QUARRY_REAL", Path.home() / ".cache" / "vast-quarry-real"))
CUBE = CACHE / "usr/share/visp-images-data/ViSP-images/cube"
#: the grabber's pixels are 0.964 as high as wide, by a separate solution of all dots alone
ASPECT = 0.964
#: where the twelve dots of the top are on its grid, in pitches, in the order of :func:`ring_of_dots`
GRID = [(-1.5, -1.5), (-0.5, -1.5), (0.5, -1.5), (1.5, -1.5), (1.5, -0.5), (1.5, 0.5), (1.5, 1.5), (0.5, 1.5), (-0.5, 1.5), (-1.5, 1.5), (-1.5, 0.5), (-1.5, -0.5)]  # fmt: skip


def ring_of_dots(picture: np.ndarray) -> np.ndarray | None:
    """Centres (12, 2) of the dots of the dark top, going round from the corner that is upper left; None without them."""
    h, w = picture.shape
    _, _, blobs, _ = cv2.connectedComponentsWithStats((picture > 150).astype(np.uint8), connectivity=4)
    found = []
    for x, y, bw, bh, area in blobs[1:]:
        if not (12 <= area <= 120 and 4 <= bw < 14 and 4 <= bh < 14 and area > 0.6 * bw * bh):
            continue
        x0, y0, x1, y1 = x - 3, y - 3, x + bw + 3, y + bh + 3
        if x0 < 0 or y0 < 0 or x1 > w or y1 > h:
            continue
        cut = picture[y0:y1, x0:x1].astype(float)
        rim = np.concatenate([cut[0], cut[-1], cut[:, 0], cut[:, -1]])
        if np.percentile(rim, 90) < 80:  # a dot lies on the dark of the box, nothing else about it
            weight = np.maximum(cut - np.median(rim) - 12, 0)
            yy, xx = np.mgrid[y0:y1, x0:x1]
            found.append([(weight * xx).sum() / weight.sum(), (weight * yy).sum() / weight.sum()])
    return _ordered(np.array(found)) if 12 <= len(found) <= 60 else None


def _ordered(dots: np.ndarray) -> np.ndarray | None:
    """Twelve of the dots that lie like the rim of a 4 x 4 grid, in the order of GRID; the largest such."""
    best, size = None, 0.0
    for quad in itertools.combinations(range(len(dots)), 4):
        q = dots[list(quad)].astype(np.float32)
        q = q[np.argsort(np.arctan2(*(q - q.mean(0)).T[::-1]))]
        q = np.roll(q, -int(np.argmin(q.sum(1))), axis=0)
        area = float(cv2.contourArea(q))
        if area <= max(size, 900.0) or not cv2.isContourConvex(q):
            continue
        h = cv2.getPerspectiveTransform(np.array([[-1.5, -1.5], [1.5, -1.5], [1.5, 1.5], [-1.5, 1.5]], np.float32), q)
        expected = cv2.perspectiveTransform(np.array([GRID], np.float32), h)[0]
        distance = np.linalg.norm(dots[:, None] - expected[None], axis=2)
        nearest = distance.argmin(0)
        if distance.min(0).max() < 1.0 and len(set(nearest.tolist())) == 12:
            best, size = dots[nearest], area
    return best


@pytest.fixture(scope="module")
def cube(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, dict[str, np.ndarray]]:
    """Every fifth frame with square pixels, and the dots of its top where all twelve are found."""
    if not CUBE.is_dir():
        pytest.skip("visp-images-data could not be fetched: scripts/real-photos.sh")
    folder = tmp_path_factory.mktemp("cube") / "photos"
    folder.mkdir()
    dots = {}
    for n in range(0, 80, 5):
        grey = cv2.imread(str(CUBE / f"image.{n:04d}.pgm"), cv2.IMREAD_GRAYSCALE)
        assert grey is not None
        square = cv2.resize(grey, (grey.shape[1], round(grey.shape[0] / ASPECT)), interpolation=cv2.INTER_CUBIC)
        cv2.imwrite(str(folder / f"f{n:04d}.png"), square)
        found = ring_of_dots(square)
        if found is not None:
            dots[f"f{n:04d}.png"] = found
    return folder, dots


def test_a_box_filmed_by_hand_is_placed_whole_and_its_dots_lie_on_their_grid(
    cube: tuple[Path, dict[str, np.ndarray]], tmp_path: Path
) -> None:
    """16 frames without EXIF, neighbours a few millimetres apart, some standing still: dots under 0.2 px, 0.9 % of the edge."""
    folder, dots = cube
    assert len(dots) >= 12
    done = CliRunner().invoke(app, ["align", str(folder), "--out", str(tmp_path / "out")])
    assert done.exit_code == 0, done.exception
    cams = {c["photo"]: c for c in json.loads((tmp_path / "out" / "cameras.json").read_text())["cameras"]}
    assert all(c["aligned"] for c in cams.values())
    points, errors = [], []
    for k in range(12):
        rows = []
        for name, found in dots.items():
            lens, r, center = _lens(cams[name]), np.array(cams[name]["rotation"]), np.array(cams[name]["center"])
            x, y = undistort(found[k], lens)
            for line in (r[0] - x * r[2], r[1] - y * r[2]):
                rows.append(np.append(line, line @ center))
        a = np.array(rows)
        point = np.linalg.lstsq(a[:, :3], a[:, 3], rcond=None)[0]
        points.append(point)
        for name, found in dots.items():
            c = cams[name]
            seen, _ = project(_lens(c), np.array(c["rotation"]), np.array(c["center"]), point[None])
            errors.append(np.linalg.norm(seen[0] - found[k]))
    assert np.sqrt(np.mean(np.square(errors))) < 0.2
    grid = np.array([(a, -b, 0.0) for a, b in GRID])
    off = np.linalg.norm(fit_similarity(np.array(points), grid).points(np.array(points)) - grid, axis=1)
    # the edge of the box is about four pitches
    assert np.sqrt((off**2).mean()) / 4 < 0.009
    # the focal length is known to about two per cent: 582 px
    assert _lens(cams["f0000.png"]).fx == pytest.approx(582, rel=0.06)


def _lens(c: dict) -> Camera:
    return Camera(c["width"], c["height"], *[c[n] for n in ("fx", "fy", "cx", "cy", "k1", "k2", "k3", "p1", "p2")])


@pytest.fixture(scope="module")
def boards(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("boards")
    for file in sorted(CHESS.glob("left??.jpg")):
        shutil.copy(file, folder / file.name)
    return folder


def test_a_board_held_before_a_still_camera_is_no_model(boards: Path, tmp_path: Path) -> None:
    """The room stands still, the board moves, its pattern repeats: the reason is told instead of a model of chance."""
    done = CliRunner().invoke(app, ["align", str(boards), "--out", str(tmp_path / "out")])
    assert isinstance(done.exception, PlainError)
    assert "stands still" in str(done.exception)


def _frames(pattern: str, every: int, folder: Path) -> list[Path]:
    """Every so-many-th frame of a sequence of the package as PNG."""
    found = sorted((CACHE / "usr/share/visp-images-data/ViSP-images").glob(pattern))[::every]
    if not found:
        pytest.skip("visp-images-data is not here")
    folder.mkdir()
    return [
        Path(
            cv2.imwrite(str(folder / f"{f.stem}.png"), cv2.imread(str(f), cv2.IMREAD_GRAYSCALE))
            and folder / f"{f.stem}.png"
        )
        for f in found
    ]


def test_a_model_castle_filmed_by_hand_gives_the_focal_length_it_is_known_by(tmp_path: Path) -> None:
    """``mbt-depth/castel``: 640 x 480 over some 15 degrees, focal length 615.2 px by its own calibration (``chateau.xml``)."""
    frames = _frames("mbt-depth/castel/castel/image_*.pgm", 2, tmp_path / "photos")
    done = CliRunner().invoke(app, ["align", str(tmp_path / "photos"), "--out", str(tmp_path / "out")])
    assert done.exit_code == 0, done.exception
    cameras = json.loads((tmp_path / "out" / "cameras.json").read_text())["cameras"]
    assert len(cameras) == len(frames) == 15
    assert all(c["aligned"] for c in cameras)
    assert cameras[0]["fx"] == pytest.approx(615.17, rel=0.05)


def test_a_box_pushed_before_a_still_camera_is_followed_and_not_the_desk(tmp_path: Path) -> None:
    """``mbt/cube``: a printed box is pushed about a desk; nearly everything the photos share stands still. It was refused before."""
    frames = _frames("mbt/cube/image*.pgm", 16, tmp_path / "photos")
    done = CliRunner().invoke(app, ["align", str(tmp_path / "photos"), "--out", str(tmp_path / "out")])
    assert done.exit_code == 0, done.exception
    cameras = json.loads((tmp_path / "out" / "cameras.json").read_text())["cameras"]
    assert sum(c["aligned"] for c in cameras) == len(frames) == 14
    report = json.loads((tmp_path / "out" / "report.json").read_text())
    assert any("stands still behind the subject" in f for f in report["findings"])
    # at rest in the first three, then pushed along an even path: none jumps, hardly any stands on the spot of another
    centers = np.array([c["center"] for c in cameras])
    steps = np.linalg.norm(np.diff(centers, axis=0), axis=1)
    assert steps.max() < 4 * np.median(steps)
    assert (steps > 0.1 * np.median(steps)).sum() >= 10
