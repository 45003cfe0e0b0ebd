"""Whether a mesh can be printed: walls, crossings, overhangs, bodies, and what mending does."""

from __future__ import annotations

import numpy as np
import pytest
import trimesh

from vast_quarry.core.finish.printing import Printer, check, crossings, mended, walls


def arrays(mesh):
    return np.array(mesh.vertices, float), np.array(mesh.faces, np.int64)


def said(found) -> str:
    return " ".join(str(f) for f in found.findings)


def test_a_sound_body_has_nothing_against_it():
    v, f = arrays(trimesh.creation.box((0.02, 0.03, 0.04)))
    found = check(v, f)
    assert not found.findings
    assert found.volume == pytest.approx(24_000, rel=1e-6)
    # handbook: PLA 1.24 g/cm3
    assert found.weights()["PLA"] == pytest.approx(24 * 1.24, rel=1e-6)
    assert found.record()["printable"] is True


def test_walls_of_a_tube_are_as_thick_as_they_are():
    tube = trimesh.creation.annulus(0.010, 0.0108, 0.04, sections=96)
    v, f = arrays(tube)
    thick = walls(v * 1000, f, 400)
    # most places lie on the walls, which are 0.8 mm; rays within 30 degrees are a little longer
    assert 0.78 < np.median(thick) < 0.95
    found = check(v, f, Printer(wall=1.2))
    assert found.thin_percent > 80
    assert "thinner" in said(found)
    assert not check(v, f, Printer(wall=0.5)).findings


def test_open_inside_out_too_large_and_in_parts():
    v, f = arrays(trimesh.creation.box((0.3, 0.02, 0.02)))
    assert "printer takes" in said(check(v, f))
    assert not check(v, f, Printer((20, 300, 30))).findings
    v, f = arrays(trimesh.creation.icosphere(2, 0.02))
    assert "open" in said(check(v, f[1:]))
    assert check(v, f[1:]).volume == 0
    assert "inside out" in said(check(v, f[:, ::-1]))
    two = trimesh.util.concatenate(
        [trimesh.creation.box((0.01,) * 3), trimesh.creation.box((0.01,) * 3).apply_translation([0.05, 0, 0])]
    )
    assert check(*arrays(two)).bodies == 2


def test_crossings_are_found_and_neighbours_are_none():
    assert not len(crossings(*arrays(trimesh.creation.icosphere(3))))
    two = trimesh.util.concatenate([trimesh.creation.box(), trimesh.creation.box().apply_translation([0.5, 0.3, 0.2])])
    assert len(crossings(*arrays(two)))


def test_overhangs_and_islands():
    table = trimesh.util.concatenate(
        [
            trimesh.creation.box((0.02, 0.02, 0.04)),
            trimesh.creation.box((0.1, 0.1, 0.01)).apply_translation([0, 0, 0.025]),
        ]
    )
    found = check(*arrays(table))
    assert found.overhang_percent > 25
    ball = trimesh.creation.icosphere(3, 0.02)
    hanging = trimesh.util.concatenate([trimesh.creation.box((0.1, 0.1, 0.01)).apply_translation([0, 0, -0.05]), ball])
    assert check(*arrays(hanging)).islands == 1
    assert check(*arrays(trimesh.creation.box((0.02,) * 3))).overhang_percent == 0


def test_mending_closes_and_turns_and_drops_crumbs():
    ball = trimesh.creation.icosphere(4, 0.03)
    v, f = arrays(ball)
    crumb = trimesh.creation.icosphere(0, 0.001).apply_translation([0.1, 0, 0])
    broken_v = np.concatenate([v, np.array(crumb.vertices)])
    broken_f = np.concatenate([f[20:], np.array(crumb.faces) + len(v)])[:, ::-1]
    v2, f2 = mended(broken_v, np.ascontiguousarray(broken_f))
    body = trimesh.Trimesh(v2, f2, process=False)
    assert body.is_watertight
    assert body.volume == pytest.approx(ball.volume, rel=0.01)
    assert not [x for x in check(v2, f2).findings if "open" in str(x) or "bodies" in str(x)]
