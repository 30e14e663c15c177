"""OpenUSD of things that move as wholes: a transform over time and a mesh each (UsdGeomXform, UsdGeomMesh)."""

from pathlib import Path

import numpy as np

from . import usd_open
from .usd import bind_materials, new_stage, prim_word, write_looks
from .usd_values import extent, put, vectors


def write(path: Path, rigid, frames: list[int], frame_rate: float) -> None:
    """rigid -- see press.rigid.Rigid."""
    from pxr import Gf, UsdGeom, Vt

    stage = new_stage(path, frame_rate, frames[0], frames[-1])
    root = UsdGeom.Xform.Define(stage, f"/{prim_word(rigid.name)}")
    stage.SetDefaultPrim(root.GetPrim())
    for i in range(rigid.pieces.count):
        place = UsdGeom.Xform.Define(stage, root.GetPath().AppendChild(f"Piece_{i + 1:03d}"))
        move = place.AddTranslateOp(UsdGeom.XformOp.PrecisionDouble)
        turn = place.AddOrientOp(UsdGeom.XformOp.PrecisionDouble)
        size = place.AddScaleOp(UsdGeom.XformOp.PrecisionDouble) if rigid.grows else None
        still = rigid.still(i)
        for f, frame in enumerate(frames[:1] if still else frames):
            set_ = _default if still else put
            set_(move.GetAttr(), Gf.Vec3d(*map(float, rigid.places[f, i])), frame)
            x, y, z, w = map(float, rigid.turns[f, i])
            set_(turn.GetAttr(), Gf.Quatd(w, x, y, z), frame)
            if size is not None:
                set_(size.GetAttr(), Gf.Vec3d(float(rigid.sizes[f, i])), frame)
        own, points, triangles = rigid.part(i)
        mesh = UsdGeom.Mesh.Define(stage, place.GetPath().AppendChild("Mesh"))
        mesh.CreatePointsAttr(vectors(points))
        mesh.CreateExtentAttr(extent(points))
        mesh.CreateFaceVertexCountsAttr(Vt.IntArray.FromNumpy(np.full(len(triangles), 3, np.int32)))
        mesh.CreateFaceVertexIndicesAttr(Vt.IntArray.FromNumpy(triangles.astype(np.int32).ravel()))
        mesh.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
        if rigid.mesh.face_materials is not None:
            bind_materials(stage, root.GetPath(), mesh, rigid.mesh, rigid.materials(i))
        write_looks(mesh, rigid.mesh, own, rigid.corners(i).ravel(), rigid.faces(i))
    stage.GetRootLayer().Save()


def _default(attribute, value, frame) -> None:
    attribute.Set(value)


class UsdNodesReader:
    """Reads the transforms back: all points, piece after piece, in the world."""

    def __init__(self, path: Path):
        from pxr import UsdGeom

        self._stage = usd_open.stage(path)
        self._meshes = [UsdGeom.Mesh(p) for p in self._stage.Traverse() if p.IsA(UsdGeom.Mesh)]
        self._points = [np.array(m.GetPointsAttr().Get(), float) for m in self._meshes]
        self.frames = list(range(int(self._stage.GetStartTimeCode()), int(self._stage.GetEndTimeCode()) + 1))
        self.frame_rate = self._stage.GetTimeCodesPerSecond()

    def points(self, frame: int) -> np.ndarray:
        from pxr import UsdGeom

        cache, found = UsdGeom.XformCache(frame), []
        for mesh, points in zip(self._meshes, self._points, strict=True):
            matrix = np.array(cache.GetLocalToWorldTransform(mesh.GetPrim()))  # rows where we have columns
            found.append(points @ matrix[:3, :3] + matrix[3, :3])
        return np.concatenate(found)
