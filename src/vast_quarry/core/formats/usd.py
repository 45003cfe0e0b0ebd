"""USD and USDZ (by Pixar's usd-core): one mesh with a preview surface, Y up, in metres; the package holds layer and pictures.

References
----------
OpenUSD, "UsdPreviewSurface Proposal" 2.6 (materials) and "Usdz File Format Specification" 1.3 (packages: stored, 64-byte aligned).
"""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.formats.atomic import atomic_write
from vast_quarry.core.formats.gltf import MaterialMaps, y_up
from vast_quarry.core.formats.pictures import ending_of


def write_usd(
    path: Path, vertices: NDArray, normals: NDArray, uv: NDArray, faces: NDArray, image: bytes, maps: MaterialMaps | None = None,
    name: str = "model",
) -> None:  # fmt: skip
    """Write ``path``: .usdz as one package, .usda or .usdc with its pictures beside it.

    Parameters
    ----------
    vertices, normals : (W, 3)
        In the world frame (Z up, metres); written Y up.
    uv : (W, 2)
        Origin at the top left; USD's is at the bottom left.
    faces : (M, 3)
    image : bytes
        The encoded texture.
    maps : MaterialMaps, optional
    """
    packed = path.suffix.lower() == ".usdz"
    with tempfile.TemporaryDirectory(prefix=".usd", dir=path.parent) as work:
        folder = Path(work)
        layer = folder / (f"{path.stem}.usdc" if packed else path.name)
        pictures = _pictures(folder, path.stem, image, maps)
        _write_layer(layer, vertices, normals, uv, faces, pictures, maps, name)
        if packed:
            _pack(path, layer, list(pictures.values()))
            return
        for file in [*pictures.values(), layer]:
            with atomic_write(path.with_name(file.name)) as out:
                out.write(file.read_bytes())


def _pictures(folder: Path, stem: str, image: bytes, maps: MaterialMaps | None) -> dict[str, Path]:
    """The pictures of a material by what they are, as files."""
    found = {"color": image}
    if maps is not None and maps.normal is not None:
        found["normal"] = maps.normal
    if maps is not None and maps.packed is not None:
        found["packed"] = maps.packed
    out = {}
    for kind, data in found.items():
        out[kind] = folder / f"{stem}-{kind}{ending_of(data)}"
        out[kind].write_bytes(data)
    return out


def _write_layer(
    layer: Path, vertices: NDArray, normals: NDArray, uv: NDArray, faces: NDArray, pictures: dict[str, Path],
    maps: MaterialMaps | None, name: str,
) -> None:  # fmt: skip
    from pxr import Gf, Sdf, Usd, UsdGeom, UsdShade, Vt

    stage = Usd.Stage.CreateNew(str(layer))
    UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.y)
    UsdGeom.SetStageMetersPerUnit(stage, 1.0)
    stage.SetMetadata("comment", "Vast Quarry")
    safe = "".join(c if c.isascii() and (c.isalnum() or c == "_") else "_" for c in name)
    safe = safe if safe[:1].isalpha() else f"m_{safe}"
    root = UsdGeom.Xform.Define(stage, f"/{safe}")
    stage.SetDefaultPrim(root.GetPrim())
    Usd.ModelAPI(root).SetKind("component")
    mesh = UsdGeom.Mesh.Define(stage, f"/{safe}/mesh")
    places = np.ascontiguousarray(y_up(vertices), np.float32)
    mesh.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(places))
    mesh.CreateFaceVertexCountsAttr(Vt.IntArray.FromNumpy(np.full(len(faces), 3, np.int32)))
    mesh.CreateFaceVertexIndicesAttr(Vt.IntArray.FromNumpy(np.ascontiguousarray(faces, np.int32).ravel()))
    mesh.CreateNormalsAttr(Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(y_up(normals), np.float32)))
    mesh.SetNormalsInterpolation(UsdGeom.Tokens.vertex)
    mesh.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
    low, high = (Gf.Vec3f(*map(float, x)) for x in (places.min(0), places.max(0)))
    mesh.CreateExtentAttr([low, high])
    st = np.ascontiguousarray(np.stack([uv[:, 0], 1 - uv[:, 1]], 1), np.float32)
    UsdGeom.PrimvarsAPI(mesh).CreatePrimvar("st", Sdf.ValueTypeNames.TexCoord2fArray, UsdGeom.Tokens.vertex).Set(
        Vt.Vec2fArray.FromNumpy(st)
    )
    material = UsdShade.Material.Define(stage, f"/{safe}/material")
    shader = UsdShade.Shader.Define(stage, f"/{safe}/material/surface")
    shader.CreateIdAttr("UsdPreviewSurface")
    reader = UsdShade.Shader.Define(stage, f"/{safe}/material/coordinates")
    reader.CreateIdAttr("UsdPrimvarReader_float2")
    reader.CreateInput("varname", Sdf.ValueTypeNames.String).Set("st")
    reader.CreateOutput("result", Sdf.ValueTypeNames.Float2)

    def picture(kind: str, color: bool) -> Any:
        node = UsdShade.Shader.Define(stage, f"/{safe}/material/{kind}")
        node.CreateIdAttr("UsdUVTexture")
        node.CreateInput("file", Sdf.ValueTypeNames.Asset).Set(f"./{pictures[kind].name}")
        node.CreateInput("st", Sdf.ValueTypeNames.Float2).ConnectToSource(reader.ConnectableAPI(), "result")
        node.CreateInput("sourceColorSpace", Sdf.ValueTypeNames.Token).Set("sRGB" if color else "raw")
        for wrap in ("wrapS", "wrapT"):
            node.CreateInput(wrap, Sdf.ValueTypeNames.Token).Set("clamp")
        return node

    def connect(to: str, kind: Any, node: Any, output: str) -> None:
        node.CreateOutput(output, Sdf.ValueTypeNames.Float3 if output == "rgb" else Sdf.ValueTypeNames.Float)
        shader.CreateInput(to, kind).ConnectToSource(node.ConnectableAPI(), output)

    connect("diffuseColor", Sdf.ValueTypeNames.Color3f, picture("color", True), "rgb")
    if "normal" in pictures:
        node = picture("normal", False)
        node.CreateInput("scale", Sdf.ValueTypeNames.Float4).Set(Gf.Vec4f(2, 2, 2, 1))
        node.CreateInput("bias", Sdf.ValueTypeNames.Float4).Set(Gf.Vec4f(-1, -1, -1, 0))
        connect("normal", Sdf.ValueTypeNames.Normal3f, node, "rgb")
    if "packed" in pictures:
        node = picture("packed", False)
        if maps is not None and maps.occluded:
            connect("occlusion", Sdf.ValueTypeNames.Float, node, "r")
        connect("roughness", Sdf.ValueTypeNames.Float, node, "g")
        connect("metallic", Sdf.ValueTypeNames.Float, node, "b")
    else:
        shader.CreateInput("roughness", Sdf.ValueTypeNames.Float).Set(1.0)
        shader.CreateInput("metallic", Sdf.ValueTypeNames.Float).Set(0.0)
    shader.CreateOutput("surface", Sdf.ValueTypeNames.Token)
    material.CreateSurfaceOutput().ConnectToSource(shader.ConnectableAPI(), "surface")
    UsdShade.MaterialBindingAPI.Apply(mesh.GetPrim()).Bind(material)
    stage.GetRootLayer().Save()


def _pack(path: Path, layer: Path, pictures: list[Path]) -> None:
    from pxr import Sdf

    target = layer.with_suffix(".usdz")
    with Sdf.ZipFileWriter.CreateNew(str(target)) as package:
        # the layer that is shown comes first
        for file in [layer, *pictures]:
            package.AddFile(str(file), file.name)
    with atomic_write(path) as out:
        out.write(target.read_bytes())
