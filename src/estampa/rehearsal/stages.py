"""OpenUSD files, played: meshes with points or places over time, instancers, points."""

from pathlib import Path

import numpy as np

from ..errors import EstampaError
from ..formats import usd_open
from ..formats.bounds import positive
from ..formats.usd_asset import looks_of
from ..formats.usd_skel import skinned, skins_of
from .actor import Actor, PlayedClip, PlayedShape


class UsdActor(Actor):
    """Everything that a stage shows: meshes, instances of meshes, points."""

    def __init__(self, path: Path):
        from pxr import UsdGeom

        self.stage = usd_open.stage(path, laid_over=True)
        self.rate = positive(path.name, "rate", self.stage.GetTimeCodesPerSecond())
        self.first, last = self.stage.GetStartTimeCode(), self.stage.GetEndTimeCode()
        self.metres = UsdGeom.GetStageMetersPerUnit(self.stage)
        self.prims, prototypes, self.skins = [], set(), skins_of(self.stage)
        for prim in self.stage.Traverse():
            if prim.IsA(UsdGeom.PointInstancer):
                prototypes |= {str(t) for t in UsdGeom.PointInstancer(prim).GetPrototypesRel().GetTargets()}
        for prim in self.stage.Traverse():
            if str(prim.GetPath()) not in prototypes and (
                prim.IsA(UsdGeom.Mesh) or prim.IsA(UsdGeom.PointInstancer) or prim.IsA(UsdGeom.Points)
            ):
                self.prims.append(prim)
        if not self.prims:
            raise EstampaError(path.name, "shows no mesh, points or instances.", "Choose another file.")
        self.reader, self._kept = looks_of(path, self.stage), {}
        super().__init__(
            path.name, [PlayedClip("All of it", 0.0, (last - self.first) / self.rate, True)], 1 / self.rate
        )

    def memory(self):
        return sum(s.points.nbytes // 2 + s.triangles.nbytes + (0 if s.stand is None else 40 * len(s.stand))
                   for s in self.shown(self.clips[0], 0.0))  # fmt: skip

    def seen(self, clip, seconds):
        from pxr import UsdGeom

        time, found = self.first + seconds * self.rate, []
        for prim in self.prims:
            into = np.array(UsdGeom.Xformable(prim).ComputeLocalToWorldTransform(time)) * 1.0
            if prim.IsA(UsdGeom.PointInstancer):
                found += self._instances(UsdGeom.PointInstancer(prim), into, np.floor(time + 1e-6))
                continue
            points = np.array(UsdGeom.PointBased(prim).GetPointsAttr().Get(time), float)
            skin = self.skins.get(str(prim.GetPath()))
            if skin is not None:
                points, into = skinned(points, skin, time)
            points = self._at(points, into)
            if prim.IsA(UsdGeom.Mesh):
                found += [PlayedShape(points, *part, **look) for *part, look in self._parts(prim, time)]
                continue
            ids = UsdGeom.Points(prim).GetIdsAttr().Get(time)
            ids = None if ids is None else np.array(ids)
            found.append(PlayedShape(points, np.zeros((0, 3), int), _colour(prim, time), ids=ids))
        return found

    def _parts(self, prim, time) -> list[tuple[np.ndarray, tuple, dict]]:
        """(triangles (t, 3), colour, its material and where it lies in that picture, if in one) of each material that a
        mesh's faces have; read once where the faces stay what they are."""
        from pxr import UsdGeom, UsdShade

        path, mesh = str(prim.GetPath()), UsdGeom.Mesh(prim)
        if path in self._kept:
            return self._kept[path]
        corners, face = _fans(mesh, time)
        indices = np.array(mesh.GetFaceVertexIndicesAttr().Get(time), int)
        left, found = np.ones(len(corners), bool), []

        def put(rows, prim_of):
            look = self.reader(prim_of, prim, corners[rows])
            found.append((indices[corners[rows]], _colour(prim_of, time), look))

        for subset in UsdShade.MaterialBindingAPI(prim).GetMaterialBindSubsets():
            own = np.isin(face, np.array(subset.GetIndicesAttr().Get(), int)) & left
            if own.any():
                put(own, subset.GetPrim())
                left &= ~own
        if left.any() or not found:
            put(left, prim)
        if not mesh.GetFaceVertexCountsAttr().ValueMightBeTimeVarying():
            self._kept[path] = found
        return found

    def _at(self, points, into):
        return (points.reshape(-1, 3) @ into[:3, :3] + into[3, :3]) * self.metres

    def _instances(self, swarm, into, time):
        """Instances stand still between samples: what comes and goes cannot be blended."""
        from pxr import UsdGeom

        which = np.array(swarm.GetProtoIndicesAttr().Get(time) or [], int)
        if not len(which):
            return []
        stand = np.array(swarm.ComputeInstanceTransformsAtTime(
            time, time, UsdGeom.PointInstancer.ExcludeProtoXform, UsdGeom.PointInstancer.IgnoreMask
        )) @ into  # fmt: skip
        ids = swarm.GetIdsAttr().Get(time)
        ids, found = np.arange(len(which)) if ids is None else np.array(ids), []
        for k, target in enumerate(swarm.GetPrototypesRel().GetTargets()):
            rows, prim = np.flatnonzero(which == k), self.stage.GetPrimAtPath(target)
            if len(rows) and prim.IsA(UsdGeom.Mesh):
                points = np.array(UsdGeom.Mesh(prim).GetPointsAttr().Get(time), float)
                places = stand[rows].transpose(0, 2, 1)  # the standard has rows of axes
                places[:, :3] *= self.metres
                found += [
                    PlayedShape(points, *part, places, ids[rows], **look) for *part, look in self._parts(prim, time)
                ]
        return found


def _fans(mesh, time) -> tuple[np.ndarray, np.ndarray]:
    """((t, 3) corners of triangles of faces of any number of corners, (t,) which face each is of)."""
    counts = np.array(mesh.GetFaceVertexCountsAttr().Get(time), int)
    if counts.min(initial=0) < 0 or counts.sum() != len(mesh.GetFaceVertexIndicesAttr().Get(time) or ()):
        raise ValueError("faces that do not fit their corners")
    start = np.concatenate([[0], np.cumsum(counts)])[:-1]
    many = np.maximum(counts - 2, 0)
    face = np.repeat(np.arange(len(counts)), many)
    k = np.arange(len(face)) - np.repeat(np.cumsum(many) - many, many)
    first = start[face]
    return np.stack([first, first + k + 1, first + k + 2], axis=1), face


def _colour(prim, time):
    from pxr import UsdGeom, UsdShade

    shown = UsdGeom.Gprim(prim).GetDisplayColorAttr().Get(time) if prim.IsA(UsdGeom.Gprim) else None
    if shown:
        return tuple(map(float, shown[0]))
    material = UsdShade.MaterialBindingAPI(prim).ComputeBoundMaterial()[0]
    surface = material.ComputeSurfaceSource()[0] if material else None
    colour = surface.GetInput("diffuseColor").Get() if surface else None
    return tuple(map(float, colour)) if colour else (0.8, 0.77, 0.71)
