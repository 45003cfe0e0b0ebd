"""Marker mats and shot lists, read back by a PDF reader and by OpenCV's detector."""

from __future__ import annotations

import json
from pathlib import Path

import cv2
import numpy as np
import pypdfium2
import pytest
from typer.testing import CliRunner

from vast_quarry.cli.main import app
from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.pdf import mat_pdf
from vast_quarry.core.plan.mats import MARGIN, PAPERS, RULER, Mat, dictionary, make_mat
from vast_quarry.core.plan.planner import make_plan
from vast_quarry.core.plan.request import Request
from vast_quarry.core.plan.shots import shot_sheet

DPI = 254  # ten pixels a millimetre


def rendered(data: bytes) -> np.ndarray:
    page = pypdfium2.PdfDocument(data)[0]
    return np.asarray(page.render(scale=DPI / 72).to_pil().convert("L"))


def on_page(mat: Mat, points: np.ndarray) -> np.ndarray:
    """Places in mm about the middle of the mat as pixels of the rendered page."""
    x = (mat.middle[0] + points[:, 0]) * 10
    y = (mat.paper[1] - mat.middle[1] - points[:, 1]) * 10
    return np.stack([x, y], 1) - 0.5


@pytest.mark.parametrize(
    ("paper", "round_"), [("A4", False), ("A3", False), ("Letter", False), ("A4", True), ("A3", True)]
)
def test_every_marker_is_found_at_its_stated_place(paper: str, round_: bool) -> None:
    mat = make_mat(paper, round_, first=7)
    page = rendered(mat_pdf(mat))
    assert page.shape == pytest.approx((PAPERS[paper][1] * 10, PAPERS[paper][0] * 10), abs=1)
    parameters = cv2.aruco.DetectorParameters()
    parameters.cornerRefinementMethod = cv2.aruco.CORNER_REFINE_SUBPIX
    corners, numbers, _ = cv2.aruco.ArucoDetector(dictionary(), parameters).detectMarkers(page)
    found = {int(n): c[0] for n, c in zip(numbers.ravel(), corners)}
    assert sorted(found) == [m.number for m in mat.markers]
    assert len(found) >= 12
    for m in mat.markers:
        off = np.abs(found[m.number] - on_page(mat, m.corners)).max()
        assert off < 1.5, f"marker {m.number} is {off / 10:.2f} mm off"  # pixels of 0.1 mm


def test_the_ruler_is_a_hundred_millimetres_long() -> None:
    mat = make_mat("A4")
    page = rendered(mat_pdf(mat))
    row = page[round((mat.paper[1] - MARGIN - 5) * 10)]
    dark = np.flatnonzero(row < 128)
    dark = dark[dark < (MARGIN + RULER + 3) * 10]
    assert np.ptp(dark) / 10 == pytest.approx(RULER, abs=0.3)


def test_the_ground_never_repeats_and_keeps_clear_of_the_markers() -> None:
    mat = make_mat("A4")
    page = rendered(mat_pdf(mat)).astype(np.float32)
    middle = on_page(mat, np.zeros((1, 2)))[0].astype(int)
    part = page[middle[1] - 150 : middle[1] + 150, middle[0] - 150 : middle[0] + 150]
    likeness = cv2.matchTemplate(page, part, cv2.TM_CCOEFF_NORMED)
    y, x = np.unravel_index(np.argmax(likeness), likeness.shape)
    assert abs(x - (middle[0] - 150)) <= 1
    assert abs(y - (middle[1] - 150)) <= 1
    likeness[max(0, y - 40) : y + 40, max(0, x - 40) : x + 40] = -1
    assert likeness.max() < 0.5
    assert 0.15 < (part < 200).mean() < 0.9
    cell = np.ptp(mat.markers[0].corners[:, 0]) / 8
    for shape, _ in mat.shapes:
        for m in mat.markers:
            low, high = m.corners.min(0) - cell, m.corners.max(0) + cell
            assert not ((shape > low) & (shape < high)).all(1).any()


def test_impossible_mats_are_refused(tmp_path: Path) -> None:
    with pytest.raises(PlainError, match="A4, A3, Letter"):
        make_mat("B5")
    with pytest.raises(PlainError, match="markers 0 to"):
        make_mat("A4", first=580)
    done = CliRunner().invoke(app, ["mat", "--paper", "A4", "--out", str(tmp_path / "mat.png")])
    assert "does not end in .pdf" in str(done.exception)


def test_a_mat_and_its_places_are_written_side_by_side(tmp_path: Path) -> None:
    done = CliRunner().invoke(app, ["mat", "--paper", "Letter", "--round", "--out", str(tmp_path / "mat.pdf")])
    assert done.exit_code == 0, done.exception
    document = json.loads((tmp_path / "mat.json").read_text())
    assert document["unit"] == "mm"
    assert len(document["markers"]) == len(make_mat("Letter", True).markers)
    assert (tmp_path / "mat.pdf").read_bytes()[:5] == b"%PDF-"


def test_a_shot_sheet_says_where_to_stand() -> None:
    data = shot_sheet(make_plan(Request(rings=1)), "Milestone & <well-head>")
    document = pypdfium2.PdfDocument(data)
    text = "".join(page.get_textpage().get_text_bounded() for page in document)
    assert "Milestone & <well-head>" in text
    assert "20 shots from about 1.39 m" in text
    for word in ("camera height", "18°", "-25°", "1/120 s"):
        assert word in text
