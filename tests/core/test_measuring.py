"""Measures against bodies whose measures are known, and how sure they say they are."""

from __future__ import annotations

import io

import ezdxf
import numpy as np
import pytest
import trimesh

from vast_quarry.core.errors import PlainError
from vast_quarry.core.finish import measuring
from vast_quarry.core.formats.drawing import as_dxf, as_svg
from vast_quarry.core.surface.cut import cut_open


def arrays(mesh):
    return np.array(mesh.vertices, float), np.array(mesh.faces, np.int64)


def round_body(rng, kind, count=300, noise=0.002, radius=0.3):
    """Points of a body turned and shifted, with noise across its surface."""
    turn = np.linalg.qr(rng.standard_normal((3, 3)))[0]
    t = rng.uniform(0, 2 * np.pi, count)
    if kind == "cylinder":
        p = np.c_[radius * np.cos(t), radius * np.sin(t), rng.uniform(-0.5, 0.5, count)]
        n = np.c_[np.cos(t), np.sin(t), 0 * t]
    elif kind == "circle":
        p = np.c_[radius * np.cos(t), radius * np.sin(t), 0 * t]
        n = np.c_[np.cos(t), np.sin(t), 0 * t]
    else:
        n = rng.standard_normal((count, 3))
        n /= np.linalg.norm(n, axis=1, keepdims=True)
        p = radius * n
    return (p + noise * rng.standard_normal((count, 1)) * n) @ turn.T + rng.uniform(-5, 5, 3)


@pytest.mark.parametrize("kind", ["circle", "cylinder", "sphere"])
def test_diameters_are_as_sure_as_they_say(kind):
    rng = np.random.default_rng(3)
    off = []
    for _ in range(200):
        found = measuring.fit(kind, round_body(rng, kind))
        off.append((found.diameter - 0.6) / found.sigma)
        assert abs(found.diameter - 0.6) < 5 * 0.002 / np.sqrt(300) * 2 * 2
    inside = np.abs(off)
    assert 0.60 <= (inside < 1).mean() <= 0.76
    assert 0.90 <= (inside < 2).mean() <= 0.985


def test_a_plane_s_normal_and_flatness():
    rng = np.random.default_rng(0)
    p = np.c_[rng.uniform(-1, 1, (500, 2)), 0.001 * rng.uniform(-1, 1, 500)]
    found = measuring.fit("plane", p)
    assert abs(found.axis[2]) == pytest.approx(1, abs=1e-4)
    assert found.out_of_form == pytest.approx(0.002, rel=0.05)
    assert found.record()["flatness_mm"] == pytest.approx(2, rel=0.05)


def test_volume_and_area_as_an_independent_library_has_them():
    for mesh in (
        trimesh.creation.icosphere(3, 0.7),
        trimesh.creation.annulus(0.2, 0.5, 0.3),
        trimesh.creation.capsule(),
    ):
        v, f = arrays(mesh)
        assert measuring.volume(v + 100, f) == pytest.approx(mesh.volume, rel=1e-6)
        assert measuring.area(v, f) == pytest.approx(mesh.area, rel=1e-9)
    v, f = cut_open(*arrays(trimesh.creation.icosphere(4)), np.zeros(3), np.array([0, 0, 1.0]))
    with pytest.raises(PlainError):
        measuring.volume(v, f)
    assert measuring.volume(v, f, over=0.0) == pytest.approx(trimesh.creation.icosphere(4).volume / 2, rel=1e-6)


def test_a_section_of_a_ring_is_two_circles():
    v, f = arrays(trimesh.creation.annulus(0.2, 0.5, 0.4, sections=256))
    cut = measuring.section(v, f, np.array([0, 0, 0.05]), np.array([0, 0, 2.0]))
    assert cut.closed == [True, True]
    radii = sorted(float(np.linalg.norm(line, axis=1).mean()) for line in cut.lines)
    assert radii == pytest.approx([0.2, 0.5], rel=1e-3)
    assert cut.area == pytest.approx(np.pi * (0.25 - 0.04), rel=1e-3)
    assert cut.length == pytest.approx(2 * np.pi * 0.7, rel=1e-3)
    upright = measuring.section(v, f, np.zeros(3), np.array([0, 1.0, 0]))
    assert np.ptp(np.concatenate(upright.lines)[:, 1]) == pytest.approx(0.4)
    assert upright.area == pytest.approx(2 * 0.3 * 0.4, rel=1e-3)
    with pytest.raises(PlainError):
        measuring.section(v, f, np.array([0, 0, 9.0]), np.array([0, 0, 1.0]))
    with pytest.raises(PlainError):
        measuring.section(v, f, np.zeros(3), np.zeros(3))


def test_drawings_are_of_true_size():
    square = np.array([[0, 0], [0.02, 0], [0.02, 0.01], [0, 0.01]])
    svg = as_svg([square], [True]).decode()
    assert 'width="30.0000mm" height="20.0000mm"' in svg
    assert svg.count("Z") == 1
    document = ezdxf.read(io.StringIO(as_dxf([square], [True]).decode()))
    line = next(iter(document.modelspace().query("LWPOLYLINE")))
    assert line.closed
    np.testing.assert_allclose([p[:2] for p in line.get_points()], square * 1000)
    assert document.units == ezdxf.units.MM
    with pytest.raises(PlainError):
        as_svg([], [])


def test_roughness_of_waves_on_a_bowl():
    """A sine of amplitude A has Sa = 2 A / pi and Sq = A / sqrt(2) (handbook values)."""
    n = 301
    x, y = np.meshgrid(np.linspace(0, 1, n), np.linspace(0, 1, n))
    z = 0.2 * (x - 0.5) ** 2 - 0.1 * x * y + 0.001 * np.sin(2 * np.pi * 20 * x)
    v = np.c_[x.ravel(), y.ravel(), z.ravel()]
    k = (np.arange(n - 1)[:, None] * n + np.arange(n - 1)).ravel()
    f = np.concatenate([np.c_[k, k + 1, k + n + 1], np.c_[k, k + n + 1, k + n]])
    found = measuring.roughness(v, f)
    assert found.sa == pytest.approx(2 * 0.001 / np.pi, rel=0.05)
    assert found.sq == pytest.approx(0.001 / np.sqrt(2), rel=0.05)


def test_angles_and_what_cannot_be_measured():
    assert measuring.angle(np.array([1.0, 0, 0]), np.zeros(3), np.array([0, 2.0, 0])) == pytest.approx(90)
    with pytest.raises(PlainError):
        measuring.angle(np.zeros(3), np.zeros(3), np.ones(3))
    flat = np.c_[np.random.default_rng(0).random((50, 2)), np.zeros(50)]
    for kind, points in (("sphere", flat), ("cone", flat), ("plane", flat[:2]), ("plane", np.ones((9, 3)))):
        with pytest.raises(PlainError):
            measuring.fit(kind, points)
