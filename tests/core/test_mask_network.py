"""Masks by a network of the user's own: a tiny one that is written here, byte by byte, as the ONNX standard has it.

Source: onnx.proto of the ONNX standard (field numbers from memory; that the file is read and computes proves them).
"""

from __future__ import annotations

import struct
from pathlib import Path

import numpy as np
import pytest

from vast_quarry.core.errors import PlainError
from vast_quarry.core.mask.measures import overlap
from vast_quarry.core.mask.network import by_network


def number(field: int, value: int) -> bytes:
    return varint(field << 3) + varint(value)


def varint(value: int) -> bytes:
    out = b""
    while value > 127:
        out += bytes([value & 127 | 128])
        value >>= 7
    return out + bytes([value])


def part(field: int, body: bytes | str) -> bytes:
    raw = body.encode() if isinstance(body, str) else body
    return varint(field << 3 | 2) + varint(len(raw)) + raw


def tensor(name: str, shape: list[int], values: list[float]) -> bytes:
    dims = b"".join(number(1, d) for d in shape)
    return dims + number(2, 1) + part(8, name) + part(9, struct.pack(f"<{len(values)}f", *values))


def picture(name: str, shape: list[int]) -> bytes:
    dims = b"".join(part(1, number(1, d)) for d in shape)
    return part(1, name) + part(2, part(1, number(1, 1) + part(2, dims)))


def redness(path: Path, side: int, outputs: int = 1) -> Path:
    """A network whose log odds are 20 (red - green): a convolution of one pixel."""
    node = part(1, "in") + part(1, "weights") + part(2, "out") + part(4, "Conv")
    node += part(5, part(1, "kernel_shape") + number(8, 1) + number(8, 1) + number(20, 7))
    graph = (
        part(1, node) + part(2, "tiny") + part(5, tensor("weights", [outputs, 3, 1, 1], [20.0, -20.0, 0.0] * outputs))
    )
    graph += part(11, picture("in", [1, 3, side, side])) + part(12, picture("out", [1, outputs, side, side]))
    path.write_bytes(number(1, 8) + part(7, graph) + part(8, part(1, "") + number(2, 13)))
    return path


def test_a_tiny_network_finds_what_it_is_made_for(tmp_path: Path) -> None:
    rgb = np.full((150, 220, 3), (60, 120, 90), np.uint8)
    rgb[40:110, 60:150] = (200, 60, 40)
    mask, sure = by_network(rgb, redness(tmp_path / "red.onnx", 512))
    assert overlap(mask, rgb[..., 0] > 150) > 0.98
    assert sure > 0.95
    assert not by_network(np.full((50, 80, 3), (20, 120, 90), np.uint8), tmp_path / "red.onnx")[0].any()


def test_what_is_no_such_network_is_told(tmp_path: Path) -> None:
    rgb = np.zeros((60, 80, 3), np.uint8)
    (tmp_path / "broken.onnx").write_bytes(b"no network at all")
    for file, said in (
        (tmp_path / "broken.onnx", "cannot be read"), (tmp_path / "none.onnx", "There is no network"),
        (redness(tmp_path / "three.onnx", 512, 3), "something else than one picture"),
    ):  # fmt: skip
        with pytest.raises(PlainError, match=said):
            by_network(rgb, file)
