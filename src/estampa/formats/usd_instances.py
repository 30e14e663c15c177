"""OpenUSD: instances over time (UsdGeomPointInstancer), and points (UsdGeomPoints), by ids."""

from pathlib import Path

import numpy as np

from . import usd_open
from .marks import ASIDE, marks_of
from .usd import bind_materials, new_stage, prim_word, write_looks


def write_instances(path: Path, name: str, frames, frame_rate, instances_at, shapes, progress) -> None:
    """instances_at(frame) -> press.grains.Instances; shapes -- press.grains.Shapes, which those fill. The shapes become
    prototypes, the same at all frames."""
    from pxr import Gf, Sdf, UsdGeom, Vt

    stage = new_stage(path, frame_rate, frames[0], frames[-1])
    root = UsdGeom.Xform.Define(stage, f"/{prim_word(name)}")
    stage.SetDefaultPrim(root.GetPrim())
    swarm = UsdGeom.PointInstancer.Define(stage, root.GetPath().AppendChild("Grains"))
    attributes = [
        swarm.CreateIdsAttr(),
        swarm.CreatePositionsAttr(),
        swarm.CreateOrientationsfAttr(),
        swarm.CreateScalesAttr(),
        swarm.CreateVelocitiesAttr(),
        swarm.CreateProtoIndicesAttr(),
    ]
    colour = UsdGeom.PrimvarsAPI(swarm).CreatePrimvar("displayColor", Sdf.ValueTypeNames.Color3fArray, "vertex")
    extent = swarm.CreateExtentAttr()
    for i, frame in enumerate(frames):
        own = instances_at(frame)
        place = np.ascontiguousarray(own.place, np.float32)
        size = np.repeat(own.size.astype(np.float32)[:, None], 3, axis=1)
        turn = Vt.QuatfArray([Gf.Quatf(float(w), float(x), float(y), float(z)) for x, y, z, w in own.turn])
        values = (
            Vt.Int64Array.FromNumpy(own.ids),
            Vt.Vec3fArray.FromNumpy(place),
            turn,
            Vt.Vec3fArray.FromNumpy(size),
            Vt.Vec3fArray.FromNumpy(own.speed.astype(np.float32)),
            Vt.IntArray.FromNumpy(own.shape.astype(np.int32)),
        )
        for attribute, value in zip(attributes, values, strict=True):
            attribute.Set(value, frame)
        if (own.colour >= 0).any():
            colour.Set(Vt.Vec3fArray.FromNumpy(np.maximum(own.colour, 0).astype(np.float32)), frame)
        around = max((float(np.abs(p).max(initial=0)) for _, p in shapes.every), default=0.0)
        around *= float(own.size.max(initial=0)) * 1.74
        low, high = (place.min(axis=0), place.max(axis=0)) if len(place) else (np.zeros(3), np.zeros(3))
        extent.Set(Vt.Vec3fArray.FromNumpy(np.float32([low - around, high + around])), frame)
        progress((i + 1) / len(frames), f"Writing frame {frame}")
    targets = []
    for k, (mesh, points) in enumerate(shapes.every):
        prim = UsdGeom.Mesh.Define(stage, swarm.GetPath().AppendChild("Prototypes").AppendChild(f"Shape_{k}"))
        narrow = np.ascontiguousarray(points, np.float32)
        prim.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(narrow))
        prim.CreateExtentAttr(Vt.Vec3fArray.FromNumpy(np.stack([narrow.min(axis=0), narrow.max(axis=0)])))
        prim.CreateFaceVertexCountsAttr(Vt.IntArray.FromNumpy(np.array(mesh.face_counts)))
        prim.CreateFaceVertexIndicesAttr(Vt.IntArray.FromNumpy(np.array(mesh.face_indices)))
        prim.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
        write_looks(prim, mesh)
        bind_materials(stage, root.GetPath(), prim, mesh)
        targets.append(prim.GetPath())
    swarm.CreatePrototypesRel().SetTargets(targets)
    stage.GetRootLayer().Save()


class InstanceReader:
    """Reads the first instancer of a stage back."""

    def __init__(self, path: Path):
        from pxr import UsdGeom

        self._stage = usd_open.stage(path)
        prim = next(p for p in self._stage.Traverse() if p.IsA(UsdGeom.PointInstancer))
        self._swarm = UsdGeom.PointInstancer(prim)
        self.frames = [int(t) for t in self._swarm.GetPositionsAttr().GetTimeSamples()]

    def marks(self, frame: int) -> tuple[np.ndarray, np.ndarray]:
        """(ids (k,), (2 k, 3) m as marks.marks_of), by the standard's own transforms of instances."""
        from pxr import UsdGeom

        ids = np.array(self._swarm.GetIdsAttr().Get(frame), np.int64)
        if not len(ids):
            return ids, np.zeros((0, 3))
        found = self._swarm.ComputeInstanceTransformsAtTime(
            frame, frame, UsdGeom.PointInstancer.IncludeProtoXform, UsdGeom.PointInstancer.IgnoreMask
        )
        into = np.array(found)  # (k, 4, 4), rows of axes, as the standard has them
        aside = np.einsum("j,kji->ki", ASIDE, into[:, :3, :3])
        return ids, np.concatenate([into[:, 3, :3], into[:, 3, :3] + aside])


def write_points(path: Path, name: str, frames, frame_rate, instances_at, wide_of, progress) -> None:
    """Points with ids, widths (m), velocities and colours. wide_of(instances) -> (k,) m."""
    from pxr import Sdf, UsdGeom, Vt

    stage = new_stage(path, frame_rate, frames[0], frames[-1])
    root = UsdGeom.Xform.Define(stage, f"/{prim_word(name)}")
    stage.SetDefaultPrim(root.GetPrim())
    prim = UsdGeom.Points.Define(stage, root.GetPath().AppendChild("Grains"))
    prim.SetWidthsInterpolation(UsdGeom.Tokens.vertex)
    colour = UsdGeom.PrimvarsAPI(prim).CreatePrimvar("displayColor", Sdf.ValueTypeNames.Color3fArray, "vertex")
    turn = UsdGeom.PrimvarsAPI(prim).CreatePrimvar("orient", Sdf.ValueTypeNames.Float4Array, "vertex")
    size = UsdGeom.PrimvarsAPI(prim).CreatePrimvar("grainSize", Sdf.ValueTypeNames.FloatArray, "vertex")
    for i, frame in enumerate(frames):
        own = instances_at(frame)
        place = np.ascontiguousarray(own.place, np.float32)
        prim.CreateIdsAttr().Set(Vt.Int64Array.FromNumpy(own.ids), frame)
        prim.CreatePointsAttr().Set(Vt.Vec3fArray.FromNumpy(place), frame)
        prim.CreateVelocitiesAttr().Set(Vt.Vec3fArray.FromNumpy(own.speed.astype(np.float32)), frame)
        prim.CreateWidthsAttr().Set(Vt.FloatArray.FromNumpy(wide_of(own).astype(np.float32)), frame)
        colour.Set(Vt.Vec3fArray.FromNumpy(np.where(own.colour >= 0, own.colour, 0.8).astype(np.float32)), frame)
        turn.Set(Vt.Vec4fArray.FromNumpy(own.turn.astype(np.float32)), frame)
        size.Set(Vt.FloatArray.FromNumpy(own.size.astype(np.float32)), frame)
        low, high = (place.min(axis=0), place.max(axis=0)) if len(place) else (np.zeros(3), np.zeros(3))
        prim.CreateExtentAttr().Set(Vt.Vec3fArray.FromNumpy(np.float32([low, high])), frame)
        progress((i + 1) / len(frames), f"Writing frame {frame}")
    stage.GetRootLayer().Save()


class PointsReader:
    """Reads the first points of a stage back."""

    def __init__(self, path: Path):
        from pxr import UsdGeom

        self._stage = usd_open.stage(path)
        prim = next(p for p in self._stage.Traverse() if p.IsA(UsdGeom.Points))
        self._points, self._more = UsdGeom.Points(prim), UsdGeom.PrimvarsAPI(prim)
        self.frames = [int(t) for t in self._points.GetPointsAttr().GetTimeSamples()]

    def marks(self, frame: int) -> tuple[np.ndarray, np.ndarray]:
        ids = np.array(self._points.GetIdsAttr().Get(frame), np.int64)
        place = np.array(self._points.GetPointsAttr().Get(frame), float).reshape(-1, 3)
        turn = np.array(self._more.GetPrimvar("orient").Get(frame), float).reshape(-1, 4)
        size = np.array(self._more.GetPrimvar("grainSize").Get(frame), float)
        return ids, marks_of(place, turn, size)
