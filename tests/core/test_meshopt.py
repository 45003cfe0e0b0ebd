"""Compressed meshes for the page come out as they went in: by a plain reader of our own, and by the reference reader."""

from __future__ import annotations

import shutil
import subprocess
from pathlib import Path

import numpy as np
import pygltflib
import pytest
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra import numpy as hnp
from numpy.typing import NDArray

from vast_quarry.core.formats.gltf import y_up
from vast_quarry.core.formats.meshopt import encode_attributes, encode_triangles, in_walking_order
from vast_quarry.core.formats.packed_glb import write_packed_glb
from vast_quarry.core.surface.mesh import vertex_normals

MODULES = Path(__file__).parents[2] / "web" / "node_modules"


def decoded_attributes(data: bytes, count: int, stride: int) -> NDArray[np.uint8]:
    """A plain reader of mode ATTRIBUTES, after the words of EXT_meshopt_compression (Khronos)."""
    assert data[0] == 0xA0
    out = np.zeros((count, stride), np.uint8)
    last = np.frombuffer(data[-stride:], np.uint8).copy()
    block, at = min((8192 // stride) & ~15, 256), 1
    for start in range(0, count, block):
        rows = min(block, count - start)
        groups = (rows + 15) // 16
        for k in range(stride):
            header, at = data[at : at + (groups + 3) // 4], at + (groups + 3) // 4
            values = np.zeros(16 * groups, np.uint8)
            for g in range(groups):
                bits = (0, 2, 4, 8)[(header[g // 4] >> (2 * (g % 4))) & 3]
                if not bits:
                    continue
                packed, at = data[at : at + 2 * bits], at + 2 * bits
                text = "".join(f"{b:08b}" for b in packed)
                for i in range(16):
                    v = int(text[i * bits : (i + 1) * bits], 2)
                    if bits < 8 and v == (1 << bits) - 1:
                        v, at = data[at], at + 1
                    values[16 * g + i] = v
            for i in range(rows):
                v = int(values[i])
                last[k] = (int(last[k]) + ((v >> 1) ^ -(v & 1))) & 0xFF
                out[start + i, k] = last[k]
    assert len(data) - at == max(stride, 32)
    return out


def turned_to_smallest(faces: NDArray) -> NDArray:
    """Triangles begun at their smallest corner: equal ones look equal, mirrored ones do not."""
    f = np.asarray(faces)
    return np.take_along_axis(f, (f.argmin(1)[:, None] + np.arange(3)) % 3, 1)


def sheet(n: int, rng: np.random.Generator) -> tuple[NDArray, NDArray]:
    """A wavy sheet whose vertices and triangles are in no order."""
    i = np.arange(n * n).reshape(n, n)
    a, b, c, d = i[:-1, :-1].ravel(), i[1:, :-1].ravel(), i[1:, 1:].ravel(), i[:-1, 1:].ravel()
    faces = np.concatenate([np.stack([a, b, c], 1), np.stack([a, c, d], 1)])
    u, v = np.divmod(np.arange(n * n), n)
    points = np.stack([u / n, v / n, 0.1 * np.sin(u / 5) * np.cos(v / 7)], 1)
    mixed = rng.permutation(n * n)
    return points[np.argsort(mixed)], mixed[faces][rng.permutation(len(faces))]


@given(
    hnp.arrays(np.uint8, st.tuples(st.integers(1, 300), st.sampled_from([4, 8, 16])), elements=st.integers(0, 255)),
    st.integers(0, 7),
)
def test_vertices_come_back(values: NDArray[np.uint8], shift: int) -> None:
    smooth = (values >> shift).cumsum(0).astype(np.uint8)
    assert np.array_equal(decoded_attributes(encode_attributes(smooth), *smooth.shape), smooth)


def test_what_cannot_be_stored_is_refused() -> None:
    for data in (np.zeros((3, 3), np.uint8), np.zeros((0, 4), np.uint8), np.zeros((2, 260), np.uint8)):
        with pytest.raises(ValueError, match="vertex"):
            encode_attributes(data)


@given(hnp.arrays(np.int64, st.tuples(st.integers(1, 60), st.just(3)), elements=st.integers(0, 40)))
def test_a_walk_takes_every_triangle_once_and_meets_vertices_in_order(faces: NDArray[np.int64]) -> None:
    walked, kept = in_walking_order(faces, 41)
    same = lambda f: sorted(map(tuple, turned_to_smallest(f).tolist()))  # noqa: E731
    assert same(kept[walked]) == same(faces)
    _, first = np.unique(walked.ravel(), return_index=True)
    assert (np.diff(first) > 0).all()


def read_by_the_reference(folder: Path, kind: str, data: bytes, count: int, size: int) -> bytes:
    """Through the reference implementation of the extension's readers (npm `meshoptimizer`, MIT)."""
    (folder / "in").write_bytes(data)
    script = (
        f"import {{ MeshoptDecoder as D }} from '{MODULES}/meshoptimizer/meshopt_decoder.mjs'; import fs from 'fs';"
        f"await D.ready; const out = new Uint8Array({count * size});"
        f"D.decode{kind}(out, {count}, {size}, fs.readFileSync('{folder}/in')); fs.writeFileSync('{folder}/out', out)"
    )
    subprocess.run(["node", "--input-type=module", "-e", script], check=True, capture_output=True, text=True)
    return (folder / "out").read_bytes()


@pytest.mark.skipif(not (shutil.which("node") and MODULES.exists()), reason="the page's packages are not set up")
@pytest.mark.parametrize("kind", ["sheet in no order", "sheet walked over", "soup", "one triangle"])
def test_the_reference_reader_reads_the_same(tmp_path: Path, rng: np.random.Generator, kind: str) -> None:
    points, faces = sheet(70, rng)
    if kind == "sheet walked over":
        faces, kept = in_walking_order(faces, len(points))
        points = points[kept]
        assert len(encode_triangles(faces)) < 1.7 * len(faces)
    elif kind == "soup":
        faces = rng.integers(0, 10_000_000, (500, 3))
    elif kind == "one triangle":
        faces = np.array([[2, 0, 1]])
    read = read_by_the_reference(tmp_path, "IndexBuffer", encode_triangles(faces), faces.size, 4)
    assert np.array_equal(turned_to_smallest(np.frombuffer(read, "<u4").reshape(-1, 3)), turned_to_smallest(faces))
    values = np.round(points * 60_000).astype("<i4")[:, :2].copy()
    read = read_by_the_reference(tmp_path, "VertexBuffer", encode_attributes(values), len(values), 8)
    assert np.array_equal(np.frombuffer(read, "<i4").reshape(-1, 2), values)


def test_a_packed_file_keeps_the_shape_and_is_small(tmp_path: Path, rng: np.random.Generator) -> None:
    """The page's limit is 40 MB for a million triangles, without the texture."""
    points, faces = sheet(120, rng)
    points += rng.normal(0, 2e-4, points.shape)  # as rough as a scan
    uv = points[:, :2].clip(0, 1)
    write_packed_glb(tmp_path / "m.glb", points, vertex_normals(points, faces), uv, faces, b"\xff\xd8\xff\xd9")
    assert (tmp_path / "m.glb").stat().st_size / len(faces) < 12
    made = pygltflib.GLTF2.load(str(tmp_path / "m.glb"))
    assert {"EXT_meshopt_compression", "KHR_mesh_quantization"} == set(made.extensionsRequired)
    view = made.bufferViews[0].extensions["EXT_meshopt_compression"]
    blob = (tmp_path / "m.glb").read_bytes()
    start = len(blob) - made.buffers[0].byteLength + view["byteOffset"]
    rows = decoded_attributes(blob[start : start + view["byteLength"]], view["count"], view["byteStride"])
    whole = rows.view("<u2").reshape(-1, 4)[:, :3]
    back = whole * made.nodes[0].scale[0] + made.nodes[0].translation
    _, kept = in_walking_order(faces, len(points))
    assert np.abs(back - y_up(points[kept])).max() < 1.0 / 65535
    accessor = made.accessors[0]
    assert (accessor.min, accessor.max) == (whole.min(0).tolist(), whole.max(0).tolist())
