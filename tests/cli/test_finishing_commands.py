"""From a textured model on the command line to a light one, edited, measured, checked, filmed, shown and archived."""

from __future__ import annotations

import json
import zipfile
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
import pytest
import trimesh
from typer.testing import CliRunner

from vast_quarry.cli.main import app
from vast_quarry.core.errors import PlainError
from vast_quarry.core.finish.unwrapping import unwrapped
from vast_quarry.core.formats.models import Model, read_model
from vast_quarry.core.formats.saving import save_model
from vast_quarry.pipeline.archive import MANIFEST, pack, read_manifest, unpack
from vast_quarry.pipeline.destinations import destination, save_for
from vast_quarry.pipeline.viewer import write_viewer

run = CliRunner()


@pytest.fixture(scope="module")
def stone(tmp_path_factory) -> Path:
    """A knobbly stone of 0.2 m on its foot, textured by height."""
    mesh = trimesh.creation.icosphere(4, 0.1)
    v, f = np.array(mesh.vertices, float), np.array(mesh.faces, np.int64)
    v *= 1 + 0.03 * np.sin(60 * v[:, :1]) * np.sin(70 * v[:, 1:2])
    v[:, 2] += 0.08
    model = unwrapped(v, f, 256, "ours").model
    y, x = np.mgrid[:256, :256]
    picture = np.stack([x, y, 255 - x], 2).astype(np.uint8)
    path = tmp_path_factory.mktemp("stone") / "stone.glb"
    save_model(path, Model(model.vertices, model.normals, model.faces, model.uv, picture))
    return path


def do(*words: object) -> str:
    """Output of a command; a refusal is raised."""
    result = run.invoke(app, [str(w) for w in words])
    if result.exception and not isinstance(result.exception, SystemExit):
        raise result.exception
    assert result.exit_code == 0, result.output
    return result.output


def told(*words: object) -> dict:
    return json.loads(do(*words, "--json"))


def test_remesh_to_a_count_an_error_and_a_length(stone, tmp_path):
    facts = told("remesh", stone, "--triangles", 2000, "--out", tmp_path / "a.glb")
    assert abs(facts["triangles"] - 2000) < 40
    back = read_model(tmp_path / "a.glb")
    assert len(back.faces) == facts["triangles"]
    assert back.picture.shape[0] == 256
    facts = told("remesh", stone, "--error", 0.2, "--out", tmp_path / "b.obj")
    assert facts["within_95_percent_mm"] <= 0.2
    assert facts["triangles"] < facts["triangles_before"] / 2
    facts = told("remesh", stone, "--edge", 5, "--plain", "--out", tmp_path / "c.stl")
    v, f = read_model(tmp_path / "c.stl").vertices, read_model(tmp_path / "c.stl").faces
    assert np.linalg.norm(v[f[:, 0]] - v[f[:, 1]], axis=1).mean() == pytest.approx(0.005, rel=0.1)
    for wrong in (
        ("--triangles", 100, "--edge", 2),
        (),
        ("--error", -1),
        ("--triangles", 3),
        ("--edge", 5, "--sharp", 0),
    ):
        with pytest.raises(PlainError):
            do("remesh", stone, *wrong, "--out", tmp_path / "d.glb")


def test_bake_from_fine_to_coarse(stone, tmp_path):
    do("remesh", stone, "--triangles", 1500, "--plain", "--out", tmp_path / "coarse.ply")
    report = told(
        "bake",
        "--from",
        stone,
        "--onto",
        tmp_path / "coarse.ply",
        "--maps",
        "color,normal,occlusion,height,curvature",
        "--size",
        256,
        "--out",
        tmp_path / "maps",
    )
    assert report["missed_percent"] < 1
    assert report["unwrapped"]["fill_percent"] > 30
    assert report == json.loads((tmp_path / "maps" / "report.json").read_text())
    for name in report["maps"].values():
        assert cv2.imread(str(tmp_path / "maps" / name), cv2.IMREAD_UNCHANGED).shape[:2] == (256, 256)
    # relief that the coarse mesh lost lies in the normal map
    normal = cv2.imread(str(tmp_path / "maps" / "normal.png"))
    assert normal[..., :].std() > 3
    baked = trimesh.load(tmp_path / "maps" / "model.glb", force="mesh")
    assert baked.visual.material.normalTexture is not None
    assert baked.visual.material.occlusionTexture is not None
    for wrong in (("--size", 5), ("--maps", "shine"), ("--samples", 9), ("--reach", "nan")):
        with pytest.raises(PlainError):
            do("bake", "--from", stone, "--onto", tmp_path / "coarse.ply", "--out", tmp_path / "no", *wrong)
    far = read_model(stone)
    save_model(tmp_path / "far.ply", Model(far.vertices + 5, far.normals, far.faces))
    with pytest.raises(PlainError, match="lie on each other"):
        do("bake", "--from", stone, "--onto", tmp_path / "far.ply", "--out", tmp_path / "no2")


def test_edits_of_a_file_are_replayed(stone, tmp_path):
    edits = tmp_path / "edits.json"
    edits.write_text(json.dumps({"edits": [
        {"kind": "cut", "at": "ground"}, {"kind": "fill"},
        {"kind": "smooth", "where": [{"by": "height", "low": 0.1}], "soft": 3},
        {"kind": "place", "turn": [0, 0, 90]}, {"kind": "center"},
    ]}))  # fmt: skip
    report = told("finish", stone, "--edits", edits, "--out", tmp_path / "done")
    assert report["open_edges"] == 0
    assert [e["kind"] for e in report["edits"]] == ["cut", "fill", "smooth", "place", "center"]
    back = read_model(tmp_path / "done" / "model.glb")
    assert back.vertices[:, 2].min() == pytest.approx(0, abs=1e-6)
    assert back.picture is not None
    assert (tmp_path / "done" / "model.obj").exists()
    # colours have gone along with the turn: what was at +x before is at +y now
    before = read_model(stone)
    place = before.vertices[before.vertices[:, 0].argmax()]
    new = back.vertices[back.vertices[:, 1].argmax()]
    assert np.abs(new[1] - place[0]) < 0.005

    def color(m, p):
        n = np.linalg.norm(m.vertices - p, axis=1).argmin()
        x, y = (m.uv[n] * m.picture.shape[0]).astype(int)
        return m.picture[min(y, m.picture.shape[0] - 1), min(x, m.picture.shape[0] - 1)].astype(int)

    assert np.abs(color(before, place) - color(back, new)).max() < 40
    edits.write_text('{"edits": [{"kind": "cut", "at": "ground"}, {"kind": "fly"}]}')
    with pytest.raises(PlainError, match="Step 2"):
        do("finish", stone, "--edits", edits, "--out", tmp_path / "no")
    edits.write_text('{"edits": [{"kind": "cut", "at": "height", "height": 9}]}')
    with pytest.raises(PlainError, match="Step 1"):
        do("finish", stone, "--edits", edits, "--out", tmp_path / "no3")
    edits.write_text("[")
    with pytest.raises(PlainError):
        do("finish", stone, "--edits", edits, "--out", tmp_path / "no4")


def test_measures_of_a_file(stone, tmp_path):
    facts = told(
        "measure", stone, "--volume", "--section", "0,0,0.08:0,0,1", "--svg", tmp_path / "s.svg", "--dxf", tmp_path / "s.dxf",
        "--distance", "0,0,0:0,0,0.1:0,0.1,0.1", "--fit", "sphere", "--angle", "1,0,0:0,0,0:0,1,0",
    )  # fmt: skip
    assert facts["volume_mm3"] == pytest.approx(4 / 3 * np.pi * 100**3, rel=0.02)
    assert facts["fit"]["diameter_mm"] == pytest.approx(200, rel=0.01)
    assert facts["distance"]["mm"] == pytest.approx(200)
    assert facts["angle_degrees"] == pytest.approx(90)
    assert facts["section"]["closed"] == facts["section"]["lines"] == 1
    assert "<path" in (tmp_path / "s.svg").read_text()
    assert "LWPOLYLINE" in (tmp_path / "s.dxf").read_text()
    assert "volume" in do("measure", stone, "--over", 0)
    top = told("measure", stone, "--within", "-1,-1,0.08:1,1,1")
    assert top["open_edges"] > 0
    for wrong in (
        ("--section", "0,0,9:0,0,1"),
        ("--section", "1,2"),
        ("--within", "5,5,5:6,6,6"),
        ("--fit", "cone"),
        ("--svg", "x.svg"),
    ):
        with pytest.raises(PlainError):
            do("measure", stone, *wrong)


def test_saved_for_each_destination(stone, tmp_path):
    light = replace(destination("game"), triangles=1000, picture=128)
    assert save_for(read_model(stone), light, tmp_path / "g.glb")["triangles"] <= 1050
    assert trimesh.load(tmp_path / "g.glb", force="mesh").visual.material.normalTexture is not None
    facts = told("save", stone, "--destination", "print", "--out", tmp_path / "p")
    assert Path(facts["file"]).suffix == ".3mf"
    assert told("print-check", Path(facts["file"]))["closed"] is True
    for kind in ("usdz", "ply", "stl", "obj"):
        assert told("save", stone, "--format", kind, "--out", tmp_path / "m")["bytes"] > 1000
    for wrong in (("--destination", "moon"), ("--format", "doc"), ("--cloud",)):
        with pytest.raises(PlainError):
            do("save", stone, "--out", tmp_path / "x.glb", *wrong)
    checked = do("print-check", stone, "--room", "100x100x100")
    assert "the printer takes" in checked
    with pytest.raises(PlainError):
        do("print-check", stone, "--room", "big")


def test_picture_and_film(stone, tmp_path):
    do("picture", stone, "--out", tmp_path / "p.png", "--width", 120, "--height", 90)
    assert cv2.imread(str(tmp_path / "p.png"), cv2.IMREAD_UNCHANGED).shape == (90, 120, 4)
    do("film", stone, "--out", tmp_path / "f.webm", "--seconds", 0.4, "--width", 96, "--height", 64, "--rate", 10)
    assert (tmp_path / "f.webm").stat().st_size > 500
    for wrong in (("--look", "shiny"), ("--seconds", 0), ("--width", 3)):
        with pytest.raises(PlainError):
            do("film", stone, "--out", tmp_path / "g.mp4", *wrong)


def test_a_viewer_needs_nothing_beside_it(stone, tmp_path, monkeypatch):
    script = tmp_path / "viewer.js"
    script.write_text("/* viewer */ '</script>'")
    monkeypatch.setattr("vast_quarry.pipeline.viewer._PLACES", (script,))
    write_viewer(tmp_path / "v.html", read_model(stone), 'Stone <b>& "co"')
    text = (tmp_path / "v.html").read_text()
    assert "Stone &lt;b&gt;&amp; &quot;co&quot;" in text
    assert "http://" not in text.replace("http://www.w3.org", "")
    assert "https://" not in text
    # what would end the script early is not in it
    assert text.count("</script>") == 2
    assert len(text) < 1_000_000 + stone.stat().st_size


@pytest.fixture
def folder(tmp_path) -> Path:
    root = tmp_path / "project"
    (root / "versions" / "photos" / "1").mkdir(parents=True)
    (root / "cache").mkdir()
    (root / "a.txt").write_text("stone" * 1000)
    (root / "versions" / "photos" / "1" / "x.npz").write_bytes(bytes(range(256)) * 40)
    (root / "cache" / "big").write_bytes(b"0" * 10_000)
    (root / "versions" / ".lock").write_text("")
    return root


def test_an_archive_comes_back_byte_for_byte(folder, tmp_path):
    do("archive", folder, "--out", tmp_path / "a.zip")
    do("restore", tmp_path / "a.zip", "--out", tmp_path / "back")
    assert (tmp_path / "back" / "a.txt").read_bytes() == (folder / "a.txt").read_bytes()
    assert (tmp_path / "back" / "versions" / "photos" / "1" / "x.npz").read_bytes() == bytes(range(256)) * 40
    assert not (tmp_path / "back" / "cache").exists()
    assert [f["path"] for f in pack(folder, tmp_path / "p.zip", partial=True)["files"]] == ["a.txt"]
    with pytest.raises(PlainError):
        do("restore", tmp_path / "a.zip", "--out", tmp_path / "back")
    with pytest.raises(PlainError):
        do("archive", tmp_path / "nothing", "--out", tmp_path / "n.zip")


def test_photos_that_are_linked_go_in_as_what_they_are(folder, tmp_path):
    (tmp_path / "elsewhere").mkdir()
    (tmp_path / "elsewhere" / "photo.jpg").write_bytes(b"jpeg" * 50)
    (folder / "photos").mkdir()
    (folder / "photos" / "a.jpg").symlink_to(tmp_path / "elsewhere" / "photo.jpg")
    (folder / "beside").symlink_to(tmp_path / "elsewhere")
    listed = [f["path"] for f in pack(folder, tmp_path / "a.zip")["files"]]
    assert "photos/a.jpg" in listed
    assert not any(name.startswith("beside") for name in listed)
    unpack(tmp_path / "a.zip", tmp_path / "back")
    back = tmp_path / "back" / "photos" / "a.jpg"
    assert not back.is_symlink()
    assert back.read_bytes() == b"jpeg" * 50


def _altered(source: Path, target: Path, change) -> Path:
    with zipfile.ZipFile(source) as z:
        entries = {n: z.read(n) for n in z.namelist()}
    manifest = json.loads(entries.pop(MANIFEST))
    change(manifest, entries)
    with zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED) as z:
        z.writestr(MANIFEST, json.dumps(manifest))
        for name, data in entries.items():
            z.writestr(name, data)
    return target


def test_archives_that_climb_out_lie_or_are_cut_are_refused(folder, tmp_path):
    pack(folder, tmp_path / "a.zip")
    good = (tmp_path / "a.zip").read_bytes()

    def climbs(m, e):
        m["files"][0]["path"] = "../evil"
        e["../evil"] = e.pop("a.txt")

    def roots(m, e):
        m["files"][0]["path"] = "/tmp/evil"
        e["/tmp/evil"] = e.pop("a.txt")

    def windows(m, e):
        m["files"][0]["path"] = "c:\\evil"
        e["c:\\evil"] = e.pop("a.txt")

    def other(m, e):
        e["a.txt"] = b"other" * 1000

    def longer(m, e):
        e["a.txt"] = b"0" * 50_000_000

    def newer(m, e):
        m["version"] = 99

    def twice(m, e):
        m["files"].append(m["files"][0])

    for n, change in enumerate((climbs, roots, windows, other, longer, newer, twice)):
        bad = _altered(tmp_path / "a.zip", tmp_path / f"bad{n}.zip", change)
        with pytest.raises(PlainError):
            unpack(bad, tmp_path / f"out{n}")
        assert not (tmp_path / f"out{n}").exists()
    assert not (tmp_path / "evil").exists()
    for n, data in enumerate((good[: len(good) // 2], b"", b"PK\x05\x06" + b"\0" * 18, good[:-30])):
        cut = tmp_path / f"cut{n}.zip"
        cut.write_bytes(data)
        with pytest.raises(PlainError):
            read_manifest(cut)


def test_a_project_of_the_page_comes_back_as_a_new_one(tmp_path):
    from sqlmodel import Session

    from vast_quarry.server.database import open_database
    from vast_quarry.server.models import Project
    from vast_quarry.server.services.folders import folders_of

    data = tmp_path / "data"
    data.mkdir()
    with Session(open_database(data)) as session:
        project = Project(
            name="Well-head", settings={"cameras": {"mat": "A3"}}, draft=[{"kind": "main-body"}], draft_done=1
        )
        session.add(project)
        session.commit()
        number = project.id
    folders = folders_of(data, number)
    folders.make()
    (folders.photos / "a.jpg").write_bytes(b"jpeg" * 100)
    do("archive", number, "--data", data, "--out", tmp_path / "p.zip")
    do("restore", tmp_path / "p.zip", "--data", data)
    with Session(open_database(data)) as session:
        new = session.get(Project, number + 1)
        assert (new.name, new.settings, new.draft) == ("Well-head", {"cameras": {"mat": "A3"}}, [{"kind": "main-body"}])
    assert (folders_of(data, number + 1).photos / "a.jpg").read_bytes() == b"jpeg" * 100
    with pytest.raises(PlainError):
        do("archive", 999, "--data", data, "--out", tmp_path / "q.zip")
    (tmp_path / "plain").mkdir()
    (tmp_path / "plain" / "x").write_text("x")
    pack(tmp_path / "plain", tmp_path / "plain.zip")
    with pytest.raises(PlainError, match="no project"):
        do("restore", tmp_path / "plain.zip", "--data", data)
    with Session(open_database(data)) as session:
        assert session.get(Project, number + 2) is None
