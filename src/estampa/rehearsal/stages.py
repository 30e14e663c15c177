"""OpenUSD files, played: meshes with points or places over time, instancers, points."""

from pathlib import Path

import numpy as np

from ..errors import EstampaError
from ..formats import usd_open
from ..formats.bounds import positive
from ..formats.usd_asset import looks_of
from ..formats.usd_skel import skinned, skins_of
from .actor import MARK, SIDES, Actor, PlayedClip, PlayedShape, by_colour

SOLIDS = ("Cube", "Sphere", "Cylinder", "Cone", "Capsule")
AXES = {"X": [2, 0, 1], "Y": [1, 2, 0], "Z": [0, 1, 2]}  # of what is made along Z


class UsdActor(Actor):
    """Everything that a stage shows: meshes, instances of meshes, points."""

    def __init__(self, path: Path):
        from pxr import UsdGeom

        self.stage = usd_open.stage(path, laid_over=True)
        self.rate = positive(path.name, "rate", self.stage.GetTimeCodesPerSecond())
        self.first, last = self.stage.GetStartTimeCode(), self.stage.GetEndTimeCode()
        self.metres = UsdGeom.GetStageMetersPerUnit(self.stage)
        self.prims, prototypes, self.skins = [], set(), skins_of(self.stage)
        left: list[str] = []
        for prim in self.stage.Traverse():
            if prim.IsA(UsdGeom.PointInstancer):
                prototypes |= set(UsdGeom.PointInstancer(prim).GetPrototypesRel().GetTargets())
        for prim in self.stage.Traverse():
            if any(prim.GetPath().HasPrefix(p) for p in prototypes):
                continue
            kinds = (UsdGeom.Mesh, UsdGeom.PointInstancer, UsdGeom.Points)
            if any(map(prim.IsA, kinds)) or prim.GetTypeName() in SOLIDS:
                self.prims.append(prim)
            elif prim.IsA(UsdGeom.Gprim) or prim.IsA(UsdGeom.Curves):
                left.append(f"{prim.GetName()}, of the sort {prim.GetTypeName()}")
        if not self.prims:
            raise EstampaError(path.name, "shows no mesh, points or instances.", "Choose another file.")
        self.reader, self._kept = looks_of(path, self.stage), {}
        super().__init__(
            path.name, [PlayedClip("All of it", 0.0, (last - self.first) / self.rate, True)], 1 / self.rate, left
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
            if prim.GetTypeName() in SOLIDS:
                points, triangles = _solid(prim, time)
                found.append(PlayedShape(self._at(points, into), triangles, _colour(prim, time)))
                continue
            points = np.array(UsdGeom.PointBased(prim).GetPointsAttr().Get(time), float)
            skin = self.skins.get(str(prim.GetPath()))
            if skin is not None:
                points, into = skinned(points, skin, time)
            points = self._at(points, into)
            if prim.IsA(UsdGeom.Mesh):
                found += [PlayedShape(points, *part, **look) for *part, look in self._parts(prim, time)]
                continue
            found += self._points(UsdGeom.Points(prim), points, time)
        return found

    def _points(self, prim, points, time) -> list[PlayedShape]:
        """Points as small marks, as wide as they are, in their colours."""
        ids, wide = prim.GetIdsAttr().Get(time), prim.GetWidthsAttr().Get(time)
        ids = np.arange(len(points)) if ids is None else np.array(ids)
        size = np.full(len(points), 0.02) if not wide else np.resize(np.array(wide, float), len(points)) * self.metres
        stand = np.tile(np.eye(4), (len(points), 1, 1))
        stand[:, :3, :3] *= 0.25 * size[:, None, None]  # a mark is four of its units long
        stand[:, :3, 3] = points
        colours = _tints(prim, time)
        return [PlayedShape(MARK[:], SIDES, colour, stand[rows], ids[rows])
                for colour, rows in by_colour(_each(colours, len(points), _colour(prim.GetPrim(), time)))]  # fmt: skip

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
        tints = _tints(swarm, time)
        tints = None if tints is None or len(tints) != len(which) else np.array(tints, float)
        for k, target in enumerate(swarm.GetPrototypesRel().GetTargets()):
            rows, prim = np.flatnonzero(which == k), self.stage.GetPrimAtPath(target)
            if len(rows) and prim.IsA(UsdGeom.Mesh):
                points = np.array(UsdGeom.Mesh(prim).GetPointsAttr().Get(time), float)
                places = stand[rows].transpose(0, 2, 1)  # the standard has rows of axes
                places[:, :3] *= self.metres
                parts = self._parts(prim, time)
                if tints is None:
                    found += [PlayedShape(points, *part, places, ids[rows], **look) for *part, look in parts]
                    continue
                for colour, some in by_colour(tints[rows]):
                    own = points[:]  # parts of one mesh share their vertices; other places do not
                    found += [PlayedShape(own, triangles, colour, places[some], ids[rows][some])
                              for triangles, *_ in parts]  # fmt: skip
        return found


def _tints(prim, time):
    """The colours of points or instances, where they have any."""
    from pxr import UsdGeom

    found = UsdGeom.PrimvarsAPI(prim).GetPrimvar("displayColor")
    return found.Get(time) if found and found.HasValue() else None


def _each(colours, count: int, plain) -> np.ndarray:
    """(count, 3) of colours that are one for each, or one for all, or none."""
    if colours is None or len(colours) not in (1, count):
        return np.tile(np.array(plain, float), (count, 1))
    return np.resize(np.array(colours, float), (count, 3))


def _solid(prim, time) -> tuple[np.ndarray, np.ndarray]:
    """(points (n, 3), triangles) of a solid by its numbers (UsdGeomCube, Sphere, Cylinder, Cone and Capsule)."""
    from pxr import UsdGeom
    from trimesh import creation

    own = getattr(UsdGeom, str(prim.GetTypeName()))(prim)
    if prim.GetTypeName() == "Cube":
        made = creation.box((float(own.GetSizeAttr().Get(time)),) * 3)
    elif prim.GetTypeName() == "Sphere":
        made = creation.icosphere(3, float(own.GetRadiusAttr().Get(time)))
    else:
        radius, height = float(own.GetRadiusAttr().Get(time)), float(own.GetHeightAttr().Get(time))
        make = {"Cylinder": creation.cylinder, "Cone": creation.cone, "Capsule": creation.capsule}
        made = make[str(prim.GetTypeName())](radius=radius, height=height)
        lift = height / 2 if prim.GetTypeName() == "Cone" else 0.0  # the standard's lie about their middle
        made.apply_translation([0, 0, -lift])
        made.vertices = made.vertices[:, AXES[str(own.GetAxisAttr().Get())]]
    return np.array(made.vertices, float), np.array(made.faces, int)


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
