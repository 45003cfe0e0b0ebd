"""A textured mesh in a GLB that is small on its way to the page: quantized (``KHR_mesh_quantization``) and compressed
(``EXT_meshopt_compression``, both Khronos glTF extensions). For looking at; what is handed out is :mod:`.gltf`."""

from __future__ import annotations

import struct
from pathlib import Path

import numpy as np
import pygltflib as gltf
from numpy.typing import NDArray

from vast_quarry.core.formats.atomic import atomic_write
from vast_quarry.core.formats.gltf import textured_document, y_up
from vast_quarry.core.formats.meshopt import encode_attributes, encode_triangles, in_walking_order

_NAME = "EXT_meshopt_compression"


def write_packed_glb(
    path: Path, vertices: NDArray, normals: NDArray, uv: NDArray, faces: NDArray, image: bytes
) -> None:
    """Write a textured mesh for display.

    Positions keep 1/65535 of the longest side, texture coordinates 1/65535 of the atlas, normals half a degree.
    Triangles and vertices are put in another order; vertices that no triangle uses are left out.

    Parameters
    ----------
    vertices, normals : (W, 3)
        In the world frame (Z up); written Y up.
    uv : (W, 2)
        Origin at the top left; outside 0..1 it is cut off there.
    faces : (M, 3)
    image : bytes
        The texture as JPEG.
    """
    order, kept = in_walking_order(faces, len(vertices))
    position = y_up(vertices[kept]).astype(float)
    low = position.min(0)
    scale = float(max((position.max(0) - low).max(), 1e-9))
    packed = np.zeros((len(kept), 4), "<u2")
    packed[:, :3] = np.round((position - low) / scale * 65535)
    n = y_up(normals[kept]).astype(float)
    length = np.linalg.norm(n, axis=1, keepdims=True)
    n = np.where(length > 1e-12, n / np.maximum(length, 1e-12), (0.0, 1.0, 0.0))
    turned = np.zeros((len(kept), 4), "i1")
    turned[:, :3] = np.round(n * 127)
    flat = np.round(np.clip(uv[kept], 0, 1) * 65535).astype("<u2")

    index = order.astype("<u4")
    streams = [
        (encode_attributes(packed), len(packed), 8, "ATTRIBUTES", gltf.ARRAY_BUFFER),
        (encode_attributes(turned), len(turned), 4, "ATTRIBUTES", gltf.ARRAY_BUFFER),
        (encode_attributes(flat), len(flat), 4, "ATTRIBUTES", gltf.ARRAY_BUFFER),
        (encode_triangles(index), index.size, 4, "TRIANGLES", gltf.ELEMENT_ARRAY_BUFFER),
    ]
    blob, views, unpacked = b"", [], 0
    for data, count, stride, mode, target in streams:
        view = gltf.BufferView(buffer=1, byteOffset=unpacked, byteLength=count * stride, target=target)
        if mode == "ATTRIBUTES":
            view.byteStride = stride
        view.extensions = {
            _NAME: {"buffer": 0, "byteOffset": len(blob), "byteLength": len(data), "byteStride": stride,
                    "count": count, "mode": mode}
        }  # fmt: skip
        views.append(view)
        blob += data + b"\0" * (-len(data) % 4)
        unpacked += count * stride + (-count * stride % 4)
    views.append(gltf.BufferView(buffer=0, byteOffset=len(blob), byteLength=len(image)))
    blob += image + b"\0" * (-len(image) % 4)
    accessors = [
        gltf.Accessor(
            bufferView=0, componentType=gltf.UNSIGNED_SHORT, count=len(packed), type=gltf.VEC3,
            min=packed[:, :3].min(0).tolist(), max=packed[:, :3].max(0).tolist(),
        ),
        gltf.Accessor(bufferView=1, componentType=gltf.BYTE, normalized=True, count=len(packed), type=gltf.VEC3),
        gltf.Accessor(bufferView=2, componentType=gltf.UNSIGNED_SHORT, normalized=True, count=len(packed), type=gltf.VEC2),
        gltf.Accessor(bufferView=3, componentType=gltf.UNSIGNED_INT, count=index.size, type=gltf.SCALAR),
    ]  # fmt: skip
    fallback = gltf.Buffer(byteLength=unpacked)
    fallback.extensions = {_NAME: {"fallback": True}}
    document = textured_document(accessors, views, [gltf.Buffer(byteLength=len(blob)), fallback], image_views=[4])
    document.extensionsUsed = document.extensionsRequired = [_NAME, "KHR_mesh_quantization"]
    # whole numbers of 1/65535 of the longest side, back to where they were
    document.nodes[0].scale = [scale / 65535] * 3
    document.nodes[0].translation = low.tolist()
    # the library joins all buffers into one; here the second is only the place for what the first unpacks to
    text = document.gltf_to_json(separators=(",", ":"), indent=None).encode()
    text += b" " * (-len(text) % 4)
    with atomic_write(path) as out:
        out.write(struct.pack("<4sII", b"glTF", 2, 28 + len(text) + len(blob)))
        for kind, chunk in ((b"JSON", text), (b"BIN\0", blob)):
            out.write(struct.pack("<I4s", len(chunk), kind) + chunk)
