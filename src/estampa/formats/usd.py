"""OpenUSD: a mesh with points over time on its untouched topology (UsdGeomMesh, crate file)."""

from pathlib import Path

import numpy as np

from ..geometry.material import Material
from ..geometry.mesh import Mesh
from ..hashing import digest
from . import usd_open
from .usd_values import extent, put, vectors


def write_cache(
    path: Path, name: str, mesh: Mesh, frames: list[int], frame_rate: float, points_at, with_normals: bool, progress
) -> None:
    """points_at(frame) -> (n, 3); written as float32, metres, +Y up."""
    from pxr import UsdGeom, Vt

    stage = new_stage(path, frame_rate, frames[0], frames[-1])
    root = UsdGeom.Xform.Define(stage, f"/{prim_word(name)}")
    stage.SetDefaultPrim(root.GetPrim())
    prim = UsdGeom.Mesh.Define(stage, root.GetPath().AppendChild("Mesh"))
    prim.CreateFaceVertexCountsAttr(Vt.IntArray.FromNumpy(np.array(mesh.face_counts)))
    prim.CreateFaceVertexIndicesAttr(Vt.IntArray.FromNumpy(np.array(mesh.face_indices)))
    prim.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
    write_looks(prim, mesh)
    bind_materials(stage, root.GetPath(), prim, mesh)
    attribute, reach = prim.CreatePointsAttr(), prim.CreateExtentAttr()
    normals = prim.CreateNormalsAttr() if with_normals else None
    if with_normals:
        prim.SetNormalsInterpolation(UsdGeom.Tokens.vertex)
    for i, frame in enumerate(frames):
        points = points_at(frame)
        put(attribute, vectors(points), frame)
        put(reach, extent(points), frame)
        if normals:
            put(normals, vectors(mesh.normals(points)), frame)
        progress((i + 1) / len(frames), f"Writing frame {frame}")
    stage.GetRootLayer().Save()


def new_stage(path: Path, frame_rate: float, first: int, last: int):
    """A stage in metres with +Y up, whose time codes are frames."""
    from pxr import Usd, UsdGeom

    stage = Usd.Stage.CreateNew(str(path))
    UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.y)
    UsdGeom.SetStageMetersPerUnit(stage, 1.0)
    stage.SetTimeCodesPerSecond(frame_rate)
    stage.SetFramesPerSecond(frame_rate)
    stage.SetStartTimeCode(first)
    stage.SetEndTimeCode(last)
    return stage


def write_looks(prim, mesh: Mesh, rows=None, corners=None, faces=None) -> None:
    """Texture coordinates, colours, normals and what else a mesh has, each by its domain. rows, corners, faces -- which
    of its vertices, corners and faces a prim has, where that is but a part of it."""
    from pxr import Sdf, UsdGeom, Vt

    types, tokens, api = Sdf.ValueTypeNames, UsdGeom.Tokens, UsdGeom.PrimvarsAPI(prim)
    pick = lambda values, chosen: np.ascontiguousarray(values if chosen is None else values[chosen], np.float32)
    if mesh.uv is not None and "uv" not in mesh.corners:
        uv = api.CreatePrimvar("st", types.TexCoord2fArray, tokens.vertex)
        uv.Set(Vt.Vec2fArray.FromNumpy(pick(mesh.uv, rows)))
    domains = ((mesh.corners, corners, tokens.faceVarying), (mesh.vertices, rows, tokens.vertex),
               (mesh.faces, faces, tokens.uniform))  # fmt: skip
    for held, chosen, how in domains:
        for name, values in held.items():
            _attribute(prim, api, name, pick(values, chosen), how)


def _attribute(prim, api, name, own, how) -> None:
    from pxr import Sdf, UsdGeom, Vt

    types = Sdf.ValueTypeNames
    if name.startswith("uv") and own.shape[1] == 2:
        uv = api.CreatePrimvar(f"st{name[2:]}", types.TexCoord2fArray, how)
        uv.Set(Vt.Vec2fArray.FromNumpy(own))
    elif name == "normal":
        api.CreatePrimvar("normals", types.Normal3fArray, how).Set(Vt.Vec3fArray.FromNumpy(own))
    elif name == "colour":
        rows = Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(own[:, :3]))
        UsdGeom.Mesh(prim).CreateDisplayColorPrimvar(how).Set(rows)
        if own.shape[1] > 3:
            opacity = Vt.FloatArray.FromNumpy(np.ascontiguousarray(own[:, 3]))
            UsdGeom.Mesh(prim).CreateDisplayOpacityPrimvar(how).Set(opacity)
    else:  # of a name of its own
        array, kind = {
            1: (Vt.FloatArray, types.FloatArray), 2: (Vt.Vec2fArray, types.Float2Array),
            3: (Vt.Vec3fArray, types.Float3Array), 4: (Vt.Vec4fArray, types.Float4Array),
        }[own.shape[1]]  # fmt: skip
        api.CreatePrimvar(name, kind, how).Set(array.FromNumpy(own.ravel() if own.shape[1] == 1 else own))


def bind_materials(stage, root, prim, mesh: Mesh, faces: np.ndarray | None = None) -> None:
    """Bind a mesh's materials to its faces: one each by UsdShade and UsdPreviewSurface, as subsets where there are
    several. faces -- (f,) material of each face of the prim, where it has others than the mesh."""
    from pxr import UsdGeom, UsdShade, Vt

    of = mesh.face_materials if faces is None else faces
    if of is None or not len(of):
        return
    used = np.unique(of)
    for number in used:
        material = _material(stage, root, number, mesh.materials[number])
        binding = UsdShade.MaterialBindingAPI.Apply(prim.GetPrim())
        if len(used) == 1:
            UsdGeom.Mesh(prim).CreateDoubleSidedAttr(bool(mesh.materials[number].two_sided))
            binding.Bind(material)
            continue
        UsdGeom.Mesh(prim).CreateDoubleSidedAttr(any(mesh.materials[m].two_sided for m in used))
        chosen = Vt.IntArray.FromNumpy(np.flatnonzero(of == number).astype(np.int32))
        subset = binding.CreateMaterialBindSubset(f"Faces_{number}", chosen, UsdGeom.Tokens.face)
        UsdShade.MaterialBindingAPI.Apply(subset.GetPrim()).Bind(material)


def _material(stage, root, number: int, m: Material):
    from pxr import Gf, Sdf, UsdShade

    path = root.AppendChild("Materials").AppendChild(prim_word(f"Material_{number}_{m.name}"))
    material = UsdShade.Material.Get(stage, path)
    if material:
        return material
    material = UsdShade.Material.Define(stage, path)
    shader = UsdShade.Shader.Define(stage, path.AppendChild("Surface"))
    shader.CreateIdAttr("UsdPreviewSurface")
    colour = shader.CreateInput("diffuseColor", Sdf.ValueTypeNames.Color3f)
    opacity = shader.CreateInput("opacity", Sdf.ValueTypeNames.Float)
    if m.picture is None:
        colour.Set(Gf.Vec3f(*map(float, m.colour)))
        opacity.Set(float(m.opacity))
    else:
        picture = _picture(stage, root, path, m)
        colour.ConnectToSource(picture.CreateOutput("rgb", Sdf.ValueTypeNames.Float3))
        if m.alpha != "opaque":
            opacity.ConnectToSource(picture.CreateOutput("a", Sdf.ValueTypeNames.Float))
    if m.alpha == "mask":
        shader.CreateInput("opacityThreshold", Sdf.ValueTypeNames.Float).Set(float(m.cutoff))
    shader.CreateInput("roughness", Sdf.ValueTypeNames.Float).Set(float(m.roughness))
    shader.CreateInput("metallic", Sdf.ValueTypeNames.Float).Set(float(m.metallic))
    if any(m.emission):
        shader.CreateInput("emissiveColor", Sdf.ValueTypeNames.Color3f).Set(Gf.Vec3f(*map(float, m.emission)))
    shader.CreateOutput("surface", Sdf.ValueTypeNames.Token)
    material.CreateSurfaceOutput().ConnectToSource(shader.ConnectableAPI(), "surface")
    material.GetPrim().SetDisplayName(m.name)
    return material


def _picture(stage, root, path, m: Material):
    """The nodes that read a picture, which is put into a folder beside the file."""
    from pxr import Gf, Sdf, UsdShade

    folder = Path(stage.GetRootLayer().realPath).parent / f"{root.name}_pictures"
    folder.mkdir(exist_ok=True)
    ending = ".png" if m.picture.data[:4] == b"\x89PNG" else ".jpg"
    stem = "".join(c if c.isalnum() or c in "-_" else "_" for c in Path(m.picture.name).stem) or "picture"
    file = folder / f"{stem}_{digest(m.picture.data).hex()[:8]}{ending}"
    if not file.exists():
        file.write_bytes(m.picture.data)
    reader = UsdShade.Shader.Define(stage, path.AppendChild("Coordinates"))
    reader.CreateIdAttr("UsdPrimvarReader_float2")
    reader.CreateInput("varname", Sdf.ValueTypeNames.String).Set(f"st{m.uv[2:]}")
    picture = UsdShade.Shader.Define(stage, path.AppendChild("Picture"))
    picture.CreateIdAttr("UsdUVTexture")
    picture.CreateInput("file", Sdf.ValueTypeNames.Asset).Set(Sdf.AssetPath(f"./{folder.name}/{file.name}"))
    picture.CreateInput("sourceColorSpace", Sdf.ValueTypeNames.Token).Set("sRGB")
    picture.CreateInput("scale", Sdf.ValueTypeNames.Float4).Set(Gf.Vec4f(*map(float, m.colour), float(m.opacity)))
    for word in ("wrapS", "wrapT"):
        picture.CreateInput(word, Sdf.ValueTypeNames.Token).Set("repeat")
    out = reader.CreateOutput("result", Sdf.ValueTypeNames.Float2)
    picture.CreateInput("st", Sdf.ValueTypeNames.Float2).ConnectToSource(out)
    return picture


class CacheReader:
    """Reads the first mesh of a stage back."""

    def __init__(self, path: Path):
        from pxr import UsdGeom

        self._stage = usd_open.stage(path)
        prim = next(p for p in self._stage.Traverse() if p.IsA(UsdGeom.Mesh))
        self._mesh = UsdGeom.Mesh(prim)
        self.frames = [int(t) for t in self._mesh.GetPointsAttr().GetTimeSamples()]
        self.frame_rate = self._stage.GetTimeCodesPerSecond()

    def points(self, frame: float) -> np.ndarray:
        return np.array(self._mesh.GetPointsAttr().Get(frame))

    def faces(self) -> tuple[np.ndarray, np.ndarray]:
        return (
            np.array(self._mesh.GetFaceVertexCountsAttr().Get()),
            np.array(self._mesh.GetFaceVertexIndicesAttr().Get()),
        )


def prim_word(name: str) -> str:
    from pxr import Tf

    return Tf.MakeValidIdentifier(name)
