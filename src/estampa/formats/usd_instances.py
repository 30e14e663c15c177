"""OpenUSD: instances over time (UsdGeomPointInstancer), and points (UsdGeomPoints), by ids."""

from pathlib import Path

import numpy as np

from . import usd_open
from .marks import ASIDE, marks_of
from .usd import bind_materials, new_stage, prim_word, write_looks
from .usd_values import extent, put, quaternions, vectors

PLAIN = (0.8, 0.77, 0.71)  # linear light


def write_instances(path: Path, name: str, frames, frame_rate, instances_at, shapes, progress) -> None:
    """instances_at(frame) -> press.grains.Instances; shapes -- press.grains.Shapes, which those fill. The shapes become
    prototypes, the same at all frames."""
    from pxr import Sdf, UsdGeom, Vt

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
    reach = swarm.CreateExtentAttr()
    for i, frame in enumerate(frames):
        own = instances_at(frame)
        place = np.ascontiguousarray(own.place, np.float32)
        values = (
            Vt.Int64Array.FromNumpy(own.ids),
            vectors(place),
            quaternions(own.turn),
            vectors(np.repeat(own.size[:, None], 3, axis=1)),
            vectors(own.speed),
            Vt.IntArray.FromNumpy(own.shape.astype(np.int32)),
        )
        for attribute, value in zip(attributes, values, strict=True):
            put(attribute, value, frame)
        if (own.colour >= 0).any():
            # what keeps its own looks among those that have a colour gets that of its first material
            looks = np.array([m.materials[0].colour if m.materials else PLAIN for m, _ in shapes.every])
            put(colour.GetAttr(), vectors(np.where(own.colour >= 0, own.colour, looks[own.shape])), frame)
        around = max((float(np.abs(p).max(initial=0)) for _, p in shapes.every), default=0.0)
        around *= float(own.size.max(initial=0)) * 1.74
        low, high = (place.min(axis=0), place.max(axis=0)) if len(place) else (np.zeros(3), np.zeros(3))
        put(reach, vectors([low - around, high + around]), frame)
        progress((i + 1) / len(frames), f"Writing frame {frame}")
    targets = []
    for k, (mesh, points) in enumerate(shapes.every):
        prim = UsdGeom.Mesh.Define(stage, swarm.GetPath().AppendChild("Prototypes").AppendChild(f"Shape_{k}"))
        prim.CreatePointsAttr(vectors(points))
        prim.CreateExtentAttr(extent(points))
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
        put(prim.CreateIdsAttr(), Vt.Int64Array.FromNumpy(own.ids), frame)
        put(prim.CreatePointsAttr(), vectors(own.place), frame)
        put(prim.CreateVelocitiesAttr(), vectors(own.speed), frame)
        put(prim.CreateWidthsAttr(), Vt.FloatArray.FromNumpy(wide_of(own).astype(np.float32)), frame)
        put(colour.GetAttr(), vectors(np.where(own.colour >= 0, own.colour, 0.8)), frame)
        put(turn.GetAttr(), Vt.Vec4fArray.FromNumpy(own.turn.astype(np.float32)), frame)
        put(size.GetAttr(), Vt.FloatArray.FromNumpy(own.size.astype(np.float32)), frame)
        put(prim.CreateExtentAttr(), extent(own.place), frame)
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
