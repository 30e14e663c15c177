"""OpenUSD: one mesh whose topology changes over time."""

from pathlib import Path

import numpy as np

from . import usd_open
from .usd import new_stage, prim_word
from .usd_values import extent, put, vectors


def write(path: Path, name: str, frames, frame_rate: float, part_at, progress) -> None:
    """part_at(frame) -> an outcome's Part in the world, or None: points, speed (m/s) and inks (linear light)."""
    from pxr import Sdf, UsdGeom, Vt

    stage = new_stage(path, frame_rate, frames[0], frames[-1])
    root = UsdGeom.Xform.Define(stage, f"/{prim_word(name)}")
    stage.SetDefaultPrim(root.GetPrim())
    mesh = UsdGeom.Mesh.Define(stage, root.GetPath().AppendChild("Skin"))
    mesh.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
    points, counts = mesh.CreatePointsAttr(), mesh.CreateFaceVertexCountsAttr()
    indices = mesh.CreateFaceVertexIndicesAttr()
    speeds, reach = mesh.CreateVelocitiesAttr(), mesh.CreateExtentAttr()
    colour = UsdGeom.PrimvarsAPI(mesh).CreatePrimvar("displayColor", Sdf.ValueTypeNames.Color3fArray, "vertex")
    none = np.zeros((0, 3))
    for i, frame in enumerate(frames):
        part = part_at(frame)
        at = none if part is None else part.points
        triangles = np.zeros((0, 3), np.int32) if part is None else part.mesh.triangles
        put(points, vectors(at), frame)
        put(counts, Vt.IntArray.FromNumpy(np.full(len(triangles), 3, np.int32)), frame)
        put(indices, Vt.IntArray.FromNumpy(np.ascontiguousarray(triangles, np.int32).ravel()), frame)
        put(speeds, vectors(none if part is None else part.velocity), frame)
        put(colour.GetAttr(), vectors(none if part is None or part.inks is None else part.inks), frame)
        put(reach, extent(at), frame)
        progress((i + 1) / len(frames), f"Writing frame {frame}")
    stage.GetRootLayer().Save()


class SurfaceReader:
    """Reads the first mesh of a stage back, with its faces at each frame."""

    def __init__(self, path: Path):
        from pxr import UsdGeom

        self._stage = usd_open.stage(path)
        self.mesh = UsdGeom.Mesh(next(p for p in self._stage.Traverse() if p.IsA(UsdGeom.Mesh)))
        self.frames = [int(t) for t in self.mesh.GetPointsAttr().GetTimeSamples()]

    def surface(self, frame: float) -> tuple[np.ndarray, np.ndarray]:
        """((n, 3) m, (t, 3))"""
        points = np.array(self.mesh.GetPointsAttr().Get(frame), float).reshape(-1, 3)
        return points, np.array(self.mesh.GetFaceVertexIndicesAttr().Get(frame), int).reshape(-1, 3)
