"""OpenUSD: a mesh with points over time on its untouched topology (UsdGeomMesh, crate file)."""

from pathlib import Path

import numpy as np

from ..geometry.mesh import Mesh


def write_cache(
    path: Path, name: str, mesh: Mesh, frames: list[int], frame_rate: float, points_at, with_normals: bool, progress
) -> None:
    """points_at(frame) -> (n, 3); written as float32, metres, +Y up."""
    from pxr import UsdGeom, Vt

    stage = new_stage(path, frame_rate, frames[0], frames[-1])
    root = UsdGeom.Xform.Define(stage, f"/{_word(name)}")
    stage.SetDefaultPrim(root.GetPrim())
    prim = UsdGeom.Mesh.Define(stage, root.GetPath().AppendChild("Mesh"))
    prim.CreateFaceVertexCountsAttr(Vt.IntArray.FromNumpy(np.array(mesh.face_counts)))
    prim.CreateFaceVertexIndicesAttr(Vt.IntArray.FromNumpy(np.array(mesh.face_indices)))
    prim.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
    write_uv(prim, mesh.uv, mesh.corners.get("uv"))
    bind_materials(stage, root.GetPath(), prim, mesh)
    attribute, extent = prim.CreatePointsAttr(), prim.CreateExtentAttr()
    normals = prim.CreateNormalsAttr() if with_normals else None
    if with_normals:
        prim.SetNormalsInterpolation(UsdGeom.Tokens.vertex)
    for i, frame in enumerate(frames):
        points = points_at(frame)
        narrow = np.ascontiguousarray(points, np.float32)
        attribute.Set(Vt.Vec3fArray.FromNumpy(narrow), frame)
        extent.Set(Vt.Vec3fArray.FromNumpy(np.stack([narrow.min(axis=0), narrow.max(axis=0)])), frame)
        if normals:
            normals.Set(Vt.Vec3fArray.FromNumpy(mesh.normals(points).astype(np.float32)), frame)
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


def write_uv(prim, by_vertex, by_corner) -> None:
    """Texture coordinates, by corner where they have seams, else by vertex; none where there are none."""
    from pxr import Sdf, UsdGeom, Vt

    values = by_vertex if by_corner is None else by_corner
    if values is not None:
        where = UsdGeom.Tokens.vertex if by_corner is None else UsdGeom.Tokens.faceVarying
        uv = UsdGeom.PrimvarsAPI(prim).CreatePrimvar("st", Sdf.ValueTypeNames.TexCoord2fArray, where)
        uv.Set(Vt.Vec2fArray.FromNumpy(np.array(values, np.float32)))


def bind_materials(stage, root, prim, mesh: Mesh, faces: np.ndarray | None = None) -> None:
    """Bind a mesh's materials to its faces: one each by UsdShade and UsdPreviewSurface, as subsets where there are
    several. faces -- (f,) material of each face of the prim, where it has others than the mesh."""
    from pxr import Gf, Sdf, UsdGeom, UsdShade, Vt

    of = mesh.face_materials if faces is None else faces
    if of is None or not len(of):
        return
    used = np.unique(of)
    for number in used:
        name, colour = mesh.materials[number]
        path = root.AppendChild("Materials").AppendChild(_word(f"Material_{number}_{name}"))
        material = UsdShade.Material.Get(stage, path)
        if not material:
            material = UsdShade.Material.Define(stage, path)
            shader = UsdShade.Shader.Define(stage, path.AppendChild("Surface"))
            shader.CreateIdAttr("UsdPreviewSurface")
            shader.CreateInput("diffuseColor", Sdf.ValueTypeNames.Color3f).Set(Gf.Vec3f(*map(float, colour)))
            shader.CreateOutput("surface", Sdf.ValueTypeNames.Token)
            material.CreateSurfaceOutput().ConnectToSource(shader.ConnectableAPI(), "surface")
            material.GetPrim().SetDisplayName(name)
        binding = UsdShade.MaterialBindingAPI.Apply(prim.GetPrim())
        if len(used) == 1:
            binding.Bind(material)
            continue
        chosen = Vt.IntArray.FromNumpy(np.flatnonzero(of == number).astype(np.int32))
        subset = binding.CreateMaterialBindSubset(f"Faces_{number}", chosen, UsdGeom.Tokens.face)
        UsdShade.MaterialBindingAPI.Apply(subset.GetPrim()).Bind(material)


class CacheReader:
    """Reads the first mesh of a stage back."""

    def __init__(self, path: Path):
        from pxr import Usd, UsdGeom

        self._stage = Usd.Stage.Open(str(path))
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


def _word(name: str) -> str:
    from pxr import Tf

    return Tf.MakeValidIdentifier(name)
