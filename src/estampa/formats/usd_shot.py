"""A shot as OpenUSD: a tree of things with their places, meshes with points over time, copies as instances."""

from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from ..geometry.mesh import Mesh
from ..geometry.pose import Pose
from . import usd_open
from .usd import bind_materials, new_stage, prim_word, write_looks
from .usd_blend import MorphedMesh, write_shapes
from .usd_copies import CopiesOverTime
from .usd_skel import bind_skin, joint_values, skeleton_animation, skinned, skins_of
from .usd_values import Timed, free_word, vectors


@dataclass
class Prop:
    """A thing of a shot. parent -- its number, or -1; mesh -- of a subject; view -- rad, of a camera; copied -- the
    mesh that copies show; bones -- scene.bones.Bones, of a skeleton; skin -- formats.skinned.Rigged, of a subject that
    stays skinned to the skeleton whose number is bones_at; targets -- (name, (n, 3) m what it adds) of its morphs,
    where nothing but those moves its points (before a skin)."""

    name: str
    parent: int
    mesh: Mesh | None = None
    view: float | None = None
    film_back: float = 0.024  # m, of a camera: how high what it sees on is
    copied: Mesh | None = None
    bones: object | None = None
    skin: object | None = None
    bones_at: int = -1
    targets: list[tuple[str, np.ndarray]] = field(default_factory=list)
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
    weights: dict[int, np.ndarray] = field(default_factory=dict)  # (t,) of a prop's targets


def write_shot(path: Path, name: str, props: list[Prop], frames: list[int], rate: float, at, progress) -> None:
    """at(frame) -> Moment. What is the same at every frame is written once."""
    from pxr import Gf, Sdf, UsdGeom, UsdSkel

    stage = new_stage(path, rate, frames[0], frames[-1])
    kind = UsdSkel.Root if any(p.skin is not None or p.bones is not None for p in props) else UsdGeom.Xform
    root = kind.Define(stage, f"/{prim_word(name)}")
    stage.SetDefaultPrim(root.GetPrim())
    stands, meshes, instancers, animations, morphed = {}, {}, {}, {}, {}
    for i, prop in enumerate(props):
        above = root.GetPath() if prop.parent < 0 else Sdf.Path(props[prop.parent].path)
        own = free_word(prim_word(prop.name), lambda word, above=above: stage.GetPrimAtPath(above.AppendChild(word)))
        prop.path = str(above.AppendChild(own))
        if prop.view is not None:
            made = UsdGeom.Camera.Define(stage, prop.path)
            made.CreateProjectionAttr(UsdGeom.Tokens.perspective)
            height = 1000 * prop.film_back  # of a unit in a thousand, as the standard has it
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
                morphed[i] = MorphedMesh(meshes[i])
    tracks: dict[tuple, Timed] = {}
    copies = {i: CopiesOverTime(made, lambda p, m=props[i].copied: _topology(stage, root, p, m), frames)
              for i, made in instancers.items()}  # fmt: skip

    def put(key, attribute, value, typed):
        if key not in tracks:
            tracks[key] = Timed(attribute, frames)
        tracks[key].put(frame, value, typed)

    for f, frame in enumerate(frames):
        now = at(frame)
        for i, local in now.local.items():
            if stands[i] is not None:
                put(("stand", i), stands[i].GetAttr(), local, lambda m: Gf.Matrix4d(*m.T.ravel().tolist()))
        for i, points in now.points.items():
            if i in morphed:
                morphed[i].add(frame, points, now.weights.get(i))
                continue
            narrow = np.asarray(points, np.float32)
            put(("points", i), meshes[i].CreatePointsAttr(), narrow, vectors)
            ends = np.stack([narrow.min(axis=0), narrow.max(axis=0)])
            put(("extent", i), meshes[i].CreateExtentAttr(), ends, vectors)
        for i, pose in now.poses.items():
            for part, (attribute, typed) in enumerate(joint_values(animations[i])):
                put(("pose", i, part), attribute, pose[part], typed)
        for i, placed in now.copies.items():
            copies[i].add(frame, placed)
        progress((f + 1) / len(frames), f"Writing frame {frame}")
    for each in copies.values():
        each.finish()
    write_shapes([(morphed[i], animations[props[i].bones_at], props[i]) for i in morphed])
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
