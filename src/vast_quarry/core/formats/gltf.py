"""glTF 2.0 binary (GLB, Khronos / ISO/IEC 12113:2022): one mesh, matt, the texture inside, in one picture or several. Y up."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pygltflib as gltf
from numpy.typing import NDArray

from vast_quarry.core.formats.atomic import atomic_write
from vast_quarry.core.formats.tiles import cut_apart


@dataclass(frozen=True)
class MaterialMaps:
    """Maps of a material beside its colour, as encoded PNG pictures.

    Attributes
    ----------
    normal : bytes, optional
        Of tangent space, green up.
    packed : bytes, optional
        Red: occlusion, green: roughness, blue: metalness, as glTF 2.0 packs them.
    occluded : bool
        Whether ``packed`` holds occlusion.
    tangents : (W, 4), optional
        Which the normals were baked for, in the world frame.
    """

    normal: bytes | None = None
    packed: bytes | None = None
    occluded: bool = True
    tangents: NDArray | None = None


def y_up(v: NDArray) -> NDArray:
    """World (x, y, z), Z up, to (x, z, -y), Y up: a turn of 90 degrees about X."""
    return np.stack([v[:, 0], v[:, 2], -v[:, 1]], axis=1)


def textured_document(
    accessors: list[gltf.Accessor],
    views: list[gltf.BufferView],
    buffers: list[gltf.Buffer],
    image_views: Sequence[int],
    image_type: str = "image/jpeg",
    name: str = "model",
    generator: str = "Vast Quarry",
) -> gltf.GLTF2:
    """A file of one mesh with a matt material for each picture: accessors are position, normal, texture coordinates and, for each
    picture, the indices of what it colours."""
    count = len(image_views)
    names = [name if count == 1 else f"{name}-{k + 1}" for k in range(count)]
    materials = [
        gltf.Material(
            name=names[k],
            pbrMetallicRoughness=gltf.PbrMetallicRoughness(
                baseColorTexture=gltf.TextureInfo(index=k), metallicFactor=0.0, roughnessFactor=1.0
            ),
            alphaMode=None,
            alphaCutoff=None,
            doubleSided=None,
        )
        for k in range(count)
    ]
    primitives = [
        gltf.Primitive(
            attributes=gltf.Attributes(POSITION=0, NORMAL=1, TEXCOORD_0=2),
            indices=3 + k,
            material=k,
            mode=gltf.TRIANGLES,
        )
        for k in range(count)
    ]
    return gltf.GLTF2(
        asset=gltf.Asset(version="2.0", generator=generator),
        scene=0,
        scenes=[gltf.Scene(nodes=[0])],
        nodes=[gltf.Node(mesh=0, name=name)],
        meshes=[gltf.Mesh(primitives=primitives, name=name)],
        materials=materials,
        textures=[gltf.Texture(sampler=0, source=k) for k in range(count)],
        samplers=[
            gltf.Sampler(
                magFilter=gltf.LINEAR,
                minFilter=gltf.LINEAR_MIPMAP_LINEAR,
                wrapS=gltf.CLAMP_TO_EDGE,
                wrapT=gltf.CLAMP_TO_EDGE,
            )
        ],
        images=[gltf.Image(bufferView=v, mimeType=image_type, name=n) for v, n in zip(image_views, names)],
        accessors=accessors,
        bufferViews=views,
        buffers=buffers,
    )


def write_glb(
    path: Path,
    vertices: NDArray,
    normals: NDArray,
    uv: NDArray,
    faces: NDArray,
    image: bytes,
    image_type: str = "image/jpeg",
    name: str = "model",
    generator: str = "Vast Quarry",
    tiles: int = 1,
    maps: MaterialMaps | None = None,
) -> None:
    """Write a textured mesh.

    Parameters
    ----------
    vertices, normals : (W, 3)
        In the world frame (Z up); written Y up.
    uv : (W, 2)
        Origin at the top left, as glTF has it.
    faces : (M, 3)
    image : bytes
        The encoded texture.
    tiles : int
        The texture is cut into so many pictures along each side, each with a material of its own.
    maps : MaterialMaps, optional
        More maps of a texture that is one picture.
    """
    uv, parts = cut_apart(uv, faces, image, tiles)
    position = y_up(vertices).astype("<f4")
    # the exact bounds of what is stored, as the standard wants them
    low, high = position.min(0).tolist(), position.max(0).tolist()
    n = y_up(normals).astype(float)
    n = (n / np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-12)).astype("<f4")
    n[np.abs(n).sum(1) < 0.5] = (0, 1, 0)
    blocks = [position.tobytes(), n.tobytes(), uv.astype("<f4").tobytes()]
    targets: list[int | None] = [gltf.ARRAY_BUFFER] * 3
    for part in parts:
        blocks += [part.faces.astype("<u4").tobytes(), part.image]
        targets += [gltf.ELEMENT_ARRAY_BUFFER, None]
    more = [m for m in (maps.normal, maps.packed) if m is not None] if maps and tiles == 1 else []
    blocks += more
    targets += [None] * len(more)
    tangents = _tangents(maps.tangents) if maps and maps.tangents is not None else None
    if tangents is not None:
        blocks.append(tangents.tobytes())
        targets.append(gltf.ARRAY_BUFFER)
    blob, views = b"", []
    for block, target in zip(blocks, targets):
        blob += b"\0" * (-len(blob) % 4)
        views.append(gltf.BufferView(buffer=0, byteOffset=len(blob), byteLength=len(block), target=target))
        blob += block
    blob += b"\0" * (-len(blob) % 4)
    count = len(position)
    accessors = [
        gltf.Accessor(bufferView=0, componentType=gltf.FLOAT, count=count, type=gltf.VEC3, min=low, max=high),
        gltf.Accessor(bufferView=1, componentType=gltf.FLOAT, count=count, type=gltf.VEC3),
        gltf.Accessor(bufferView=2, componentType=gltf.FLOAT, count=count, type=gltf.VEC2),
        *(
            gltf.Accessor(
                bufferView=3 + 2 * k, componentType=gltf.UNSIGNED_INT, count=int(p.faces.size), type=gltf.SCALAR
            )
            for k, p in enumerate(parts)
        ),
    ]
    document = textured_document(
        accessors, views, [gltf.Buffer(byteLength=len(blob))], [4 + 2 * k for k in range(len(parts))], image_type,
        name=name, generator=generator,
    )  # fmt: skip
    if maps and more:
        _add_maps(document, maps, 3 + 2 * len(parts))
    if tangents is not None:
        accessor = gltf.Accessor(bufferView=len(views) - 1, componentType=gltf.FLOAT, count=count, type=gltf.VEC4)
        document.accessors.append(accessor)
        for primitive in document.meshes[0].primitives:
            primitive.attributes.TANGENT = len(document.accessors) - 1
    document.set_binary_blob(blob)
    with atomic_write(path) as out:
        out.write(b"".join(document.save_to_bytes()))


def _tangents(tangents: NDArray) -> NDArray:
    """Tangents (W, 4) turned Y up, of exactly unit length in single precision."""
    t = y_up(tangents[:, :3]).astype(float)
    t /= np.maximum(np.linalg.norm(t, axis=1, keepdims=True), 1e-12)
    return np.concatenate([t, np.where(tangents[:, 3:] < 0, -1.0, 1.0)], 1).astype("<f4")


def _add_maps(document: gltf.GLTF2, maps: MaterialMaps, view: int) -> None:
    """Normal map, and occlusion, roughness and metalness in one; their pictures lie in views from ``view`` on."""
    material = document.materials[0]
    for name, data in (("normal", maps.normal), ("occlusion-roughness-metalness", maps.packed)):
        if data is None:
            continue
        document.images.append(gltf.Image(bufferView=view, mimeType="image/png", name=name))
        document.textures.append(gltf.Texture(sampler=0, source=len(document.images) - 1))
        at, view = len(document.textures) - 1, view + 1
        if name == "normal":
            material.normalTexture = gltf.NormalMaterialTexture(index=at)
            continue
        material.pbrMetallicRoughness.metallicRoughnessTexture = gltf.TextureInfo(index=at)
        material.pbrMetallicRoughness.metallicFactor = 1.0
        if maps.occluded:
            material.occlusionTexture = gltf.OcclusionTextureInfo(index=at)


def cameras_glb(
    stations: Sequence[tuple[str, NDArray, NDArray]],
    yfov: float,
    aspect: float,
    vertices: NDArray,
    faces: NDArray,
    generator: str = "Vast Quarry",
) -> bytes:
    """Cameras as GLB, with a plain shape among them.

    Parameters
    ----------
    stations : sequence of (name, rotation, center)
        Rotation (3, 3) world to camera (x right, y down, z forward), centre (3,), Z up; written Y up.
    yfov : float
        Angle of view from top to bottom in radians.
    aspect : float
        Width over height.
    vertices : (N, 3), faces : (M, 3)
        What stands in for the subject.
    """
    position, index = y_up(np.asarray(vertices, float)).astype("<f4"), np.asarray(faces).astype("<u4")
    blob = position.tobytes() + index.tobytes()
    nodes = [gltf.Node(mesh=0, name="subject")]
    for name, rotation, center in stations:
        # a glTF camera looks along its -z with y up
        axes = y_up(np.stack([rotation[0], -rotation[1], -rotation[2]]))
        matrix = np.eye(4)
        matrix[:3, :3], matrix[:3, 3] = axes.T, y_up(np.asarray(center, float)[None])[0]
        nodes.append(gltf.Node(camera=0, name=name, matrix=matrix.T.ravel().tolist()))
    document = gltf.GLTF2(
        asset=gltf.Asset(version="2.0", generator=generator),
        scene=0,
        scenes=[gltf.Scene(nodes=list(range(len(nodes))))],
        nodes=nodes,
        cameras=[gltf.Camera(type="perspective", perspective=gltf.Perspective(yfov=yfov, aspectRatio=aspect, znear=0.01))],
        meshes=[gltf.Mesh(primitives=[gltf.Primitive(attributes=gltf.Attributes(POSITION=0), indices=1)], name="subject")],
        accessors=[
            gltf.Accessor(
                bufferView=0, componentType=gltf.FLOAT, count=len(position), type=gltf.VEC3,
                min=position.min(0).tolist(), max=position.max(0).tolist(),
            ),
            gltf.Accessor(bufferView=1, componentType=gltf.UNSIGNED_INT, count=int(index.size), type=gltf.SCALAR),
        ],
        bufferViews=[
            gltf.BufferView(buffer=0, byteOffset=0, byteLength=position.nbytes, target=gltf.ARRAY_BUFFER),
            gltf.BufferView(
                buffer=0, byteOffset=position.nbytes, byteLength=index.nbytes, target=gltf.ELEMENT_ARRAY_BUFFER
            ),
        ],
        buffers=[gltf.Buffer(byteLength=len(blob))],
    )  # fmt: skip
    document.set_binary_blob(blob)
    return b"".join(document.save_to_bytes())
