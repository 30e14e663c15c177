"""A shot as OpenUSD: a tree of things with their places, meshes with points over time, copies as instances."""

from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from ..geometry.mesh import Mesh
from ..geometry.pose import Pose
from . import usd_open
from .usd import bind_materials, new_stage, prim_word, write_looks
from .usd_skel import bind_skin, joint_values, skeleton_animation, skinned, skins_of


@dataclass
class Prop:
    """A thing of a shot. parent -- its number, or -1; mesh -- of a subject; view -- rad, of a camera; copied -- the
    mesh that copies show; bones -- scene.bones.Bones, of a skeleton; skin -- formats.skinned.Rigged, of a subject that
    stays skinned to the skeleton whose number is bones_at."""

    name: str
    parent: int
    mesh: Mesh | None = None
    view: float | None = None
    copied: Mesh | None = None
    bones: object | None = None
    skin: object | None = None
    bones_at: int = -1
    path: str = ""


@dataclass
class PlacedCopies:
    """Copies at a frame: shapes (c, n, 3) m in their own space; origin (k, 3) m, turn (k, 4) x, y, z, w, size (k,);
    which (k,) of the shapes each shows; ids (k,)."""

    shapes: np.ndarray
    origin: np.ndarray
    turn: np.ndarray
    size: np.ndarray
    which: np.ndarray
    ids: np.ndarray


@dataclass
class ShotFrame:
    """What a shot looks like at a frame, by number of the prop: local (4, 4) within its parent, points (n, 3) in its
    own space (of one that stays skinned before its skin), copies, poses of skeletons."""

    local: dict[int, np.ndarray] = field(default_factory=dict)
    points: dict[int, np.ndarray] = field(default_factory=dict)
    copies: dict[int, PlacedCopies] = field(default_factory=dict)
    poses: dict[int, Pose] = field(default_factory=dict)


def write_shot(path: Path, name: str, props: list[Prop], frames: list[int], rate: float, at, progress) -> None:
    """at(frame) -> Moment. What is the same at every frame is written once."""
    from pxr import Gf, Sdf, UsdGeom, UsdSkel, Vt

    stage = new_stage(path, rate, frames[0], frames[-1])
    kind = UsdSkel.Root if any(p.skin is not None for p in props) else UsdGeom.Xform
    root = kind.Define(stage, f"/{prim_word(name)}")
    stage.SetDefaultPrim(root.GetPrim())
    stands, meshes, instancers, animations = {}, {}, {}, {}
    for i, prop in enumerate(props):
        above = root.GetPath() if prop.parent < 0 else Sdf.Path(props[prop.parent].path)
        own, count = prim_word(prop.name), 2
        while stage.GetPrimAtPath(above.AppendChild(own)):
            own, count = f"{prim_word(prop.name)}_{count}", count + 1
        prop.path = str(above.AppendChild(own))
        if prop.view is not None:
            made = UsdGeom.Camera.Define(stage, prop.path)
            made.CreateProjectionAttr(UsdGeom.Tokens.perspective)
            height = 24.0
            made.CreateVerticalApertureAttr(height)
            made.CreateHorizontalApertureAttr(height * 16 / 9)
            made.CreateFocalLengthAttr(float(height / 2 / np.tan(prop.view / 2)))
        elif prop.copied is not None:
            made = UsdGeom.PointInstancer.Define(stage, prop.path)
            instancers[i] = made
        elif prop.bones is not None:
            made = UsdSkel.Skeleton.Define(stage, prop.path)
            animations[i] = skeleton_animation(stage, made, prop.bones, bind_of(props, i))
        else:
            made = UsdGeom.Xform.Define(stage, prop.path)
        made.GetPrim().SetDisplayName(prop.name)
        stands[i] = made.AddTransformOp() if prop.copied is None else None
        if prop.mesh is not None:
            meshes[i] = _topology(stage, root, made.GetPath().AppendChild("Shape"), prop.mesh)
            if prop.skin is not None:
                skeleton = stage.GetPrimAtPath(props[prop.bones_at].path)
                bind_skin(meshes[i], prop.skin, skeleton, bind_of(props, prop.bones_at))
    kept: dict = {}

    def put(key, attribute, value, typed):
        """Write a value at this frame where it differs from the last one that was written."""
        last = kept.get(key)
        if last is not None and np.array_equal(last[1], value):
            kept[key] = (last[0], value, frame)
            return
        if last is not None and last[2] != last[0]:
            attribute.Set(typed(last[1]), last[2])  # it stood still until then
        attribute.Set(typed(value), frame)
        kept[key] = (frame, value, frame)

    vectors = lambda v: Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(v, np.float32))
    for f, frame in enumerate(frames):
        now = at(frame)
        for i, local in now.local.items():
            if stands[i] is not None:
                put(("stand", i), stands[i].GetAttr(), local, lambda m: Gf.Matrix4d(*m.T.ravel().tolist()))
        for i, points in now.points.items():
            narrow = np.asarray(points, np.float32)
            put(("points", i), meshes[i].CreatePointsAttr(), narrow, vectors)
            ends = np.stack([narrow.min(axis=0), narrow.max(axis=0)])
            put(("extent", i), meshes[i].CreateExtentAttr(), ends, vectors)
        for i, pose in now.poses.items():
            for part, (attribute, typed) in enumerate(joint_values(animations[i])):
                put(("pose", i, part), attribute, pose[part], typed)
        for i, placed in now.copies.items():
            _instances(stage, root, instancers[i], props[i].copied, placed, frame, put, (i, vectors))
        progress((f + 1) / len(frames), f"Writing frame {frame}")
    stage.GetRootLayer().Save()


def bind_of(props: list[Prop], number: int) -> np.ndarray:
    """(n, 4, 4) what joints of a skeleton were when the first mesh was bound that follows it; their rest without."""
    skin = next((p.skin for p in props if p.skin is not None and p.bones_at == number), None)
    return props[number].bones.at_rest if skin is None else np.linalg.inv(skin.back)


def _topology(stage, root, path, mesh: Mesh):
    from pxr import UsdGeom, Vt

    prim = UsdGeom.Mesh.Define(stage, path)
    prim.CreateFaceVertexCountsAttr(Vt.IntArray.FromNumpy(np.array(mesh.face_counts)))
    prim.CreateFaceVertexIndicesAttr(Vt.IntArray.FromNumpy(np.array(mesh.face_indices)))
    prim.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
    write_looks(prim, mesh)
    bind_materials(stage, root.GetPath(), prim, mesh)
    return prim


def _instances(stage, root, instancer, mesh, placed: PlacedCopies, frame, put, more) -> None:
    from pxr import Gf, UsdGeom, Vt

    number, vectors = more
    prototypes = instancer.GetPath().AppendChild("Prototypes")
    targets = []
    for k, points in enumerate(placed.shapes):
        path = prototypes.AppendChild(f"Shape_{k}")
        prim = stage.GetPrimAtPath(path)
        prim = UsdGeom.Mesh(prim) if prim else _topology(stage, root, path, mesh)
        narrow = np.asarray(points, np.float32)
        put(("shape", number, k), prim.CreatePointsAttr(), narrow, vectors)
        ends = np.stack([narrow.min(axis=0), narrow.max(axis=0)])
        put(("shape extent", number, k), prim.CreateExtentAttr(), ends, vectors)
        targets.append(path)
    if len(instancer.GetPrototypesRel().GetTargets()) != len(targets):
        instancer.CreatePrototypesRel().SetTargets(targets)
    whole = lambda v: Vt.IntArray.FromNumpy(np.ascontiguousarray(v, np.int32))
    long = lambda v: Vt.Int64Array.FromNumpy(np.ascontiguousarray(v, np.int64))
    turned = lambda q: Vt.QuatfArray([Gf.Quatf(float(w), float(x), float(y), float(z)) for x, y, z, w in q])
    put(("which", number), instancer.CreateProtoIndicesAttr(), placed.which, whole)
    put(("ids", number), instancer.CreateIdsAttr(), placed.ids, long)
    put(("origin", number), instancer.CreatePositionsAttr(), np.asarray(placed.origin, np.float32), vectors)
    put(("turn", number), instancer.CreateOrientationsfAttr(), placed.turn, turned)
    put(("size", number), instancer.CreateScalesAttr(), np.repeat(placed.size[:, None], 3, axis=1), vectors)
    reach = float(np.abs(placed.shapes).max(initial=0.0)) * float(placed.size.max(initial=1.0)) * 1.8
    ends = np.stack([placed.origin.min(axis=0) - reach, placed.origin.max(axis=0) + reach])
    put(("extent", number), instancer.CreateExtentAttr(), ends.astype(np.float32), vectors)


class ShotReader:
    """Reads a shot back by the paths of its props, with OpenUSD's own composition of places."""

    def __init__(self, path: Path):

        self.stage, self._skins = usd_open.stage(path), None
        self.first, self.last = int(self.stage.GetStartTimeCode()), int(self.stage.GetEndTimeCode())

    def points(self, path: str, frame: int) -> np.ndarray:
        """(n, 3) m in the world."""
        from pxr import Usd, UsdGeom

        shape = self.stage.GetPrimAtPath(f"{path}/Shape")
        world = np.array(UsdGeom.XformCache(Usd.TimeCode(frame)).GetLocalToWorldTransform(shape))
        own = np.array(UsdGeom.Mesh(shape).GetPointsAttr().Get(frame), float)
        return own @ world[:3, :3] + world[3, :3]

    def skinned(self, path: str, frame: int) -> np.ndarray:
        """(n, 3) m in the world, by UsdSkel's own skinning."""
        from pxr import UsdGeom

        if self._skins is None:
            self._skins = skins_of(self.stage)
        shape = f"{path}/Shape"
        points = np.array(UsdGeom.Mesh(self.stage.GetPrimAtPath(shape)).GetPointsAttr().Get(frame), float)
        moved, world = skinned(points, self._skins[shape], frame)
        return moved @ world[:3, :3] + world[3, :3]

    def instances(self, path: str, frame: int) -> np.ndarray:
        """(k, n, 3) m in the world, each instance's points, in the order of their ids."""
        from pxr import Usd, UsdGeom

        instancer = UsdGeom.PointInstancer(self.stage.GetPrimAtPath(path))
        time = Usd.TimeCode(frame)
        world = np.array(UsdGeom.XformCache(time).GetLocalToWorldTransform(instancer.GetPrim()))
        matrices = np.array(instancer.ComputeInstanceTransformsAtTime(time, time))
        which, ids = np.array(instancer.GetProtoIndicesAttr().Get(time)), np.array(instancer.GetIdsAttr().Get(time))
        shapes = [np.array(UsdGeom.Mesh(self.stage.GetPrimAtPath(p)).GetPointsAttr().Get(time), float)
                  for p in instancer.GetPrototypesRel().GetTargets()]  # fmt: skip
        found = [shapes[w] @ m[:3, :3] + m[3, :3] for w, m in zip(which, matrices, strict=True)]
        order = np.argsort(ids)
        return np.array(found)[order] @ world[:3, :3] + world[3, :3]
