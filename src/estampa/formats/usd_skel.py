"""OpenUSD with UsdSkel: a skeleton, a bound mesh and an animation for each clip."""

from pathlib import Path

import numpy as np

from ..errors import EstampaError
from . import usd_open
from .skinned import ENDING, Motion, Rigged
from .usd import bind_materials, new_stage, prim_word, write_looks
from .usd_blend import add_shapes, blended, weigh_shapes
from .usd_values import extent, free_word, put, quaternions, vectors

HALF = 65504.0  # the largest half float, which scales are stored as (IEEE 754)


def write(path: Path, rigged: Rigged, motions: list[Motion], frame_rate: float, first_frame: int) -> None:
    """The first motion is bound and plays from `first_frame` on; the others are there to be chosen."""
    from pxr import Gf, UsdGeom, UsdSkel, Vt

    stage = new_stage(path, frame_rate, first_frame, first_frame + len(motions[0].times) - 1)
    root = UsdSkel.Root.Define(stage, f"/{prim_word(rigged.name)}")
    stage.SetDefaultPrim(root.GetPrim())
    skeleton = UsdSkel.Skeleton.Define(stage, root.GetPath().AppendChild("Skeleton"))
    names, parents, rest, bind, ends = _with_ends(rigged)
    paths = _paths(names, parents)
    matrix = lambda m: Gf.Matrix4d(*m.T.ravel().tolist())  # USD has rows where glTF and we have columns
    skeleton.CreateJointsAttr(paths)
    skeleton.CreateJointNamesAttr(names)
    skeleton.CreateRestTransformsAttr(Vt.Matrix4dArray([matrix(m) for m in rest]))
    skeleton.CreateBindTransformsAttr(Vt.Matrix4dArray([matrix(m) for m in bind]))
    _stand(skeleton, motions[0], first_frame)
    mesh = UsdGeom.Mesh.Define(stage, root.GetPath().AppendChild("Mesh"))
    _geometry(mesh, rigged)
    bind_materials(stage, root.GetPath(), mesh, rigged.mesh)
    binding = UsdSkel.BindingAPI.Apply(mesh.GetPrim())
    _influences(binding, rigged)
    binding.CreateGeomBindTransformAttr(Gf.Matrix4d(1.0))
    binding.CreateSkeletonRel().SetTargets([skeleton.GetPath()])
    shapes = add_shapes(mesh, rigged.targets, [name for name, _ in rigged.targets])
    api = UsdSkel.BindingAPI.Apply(skeleton.GetPrim())
    for k, motion in enumerate(motions):
        own = prim_word(motion.name) or f"Clip{k}"
        animation = UsdSkel.Animation.Define(stage, skeleton.GetPath().AppendChild(own))
        animation.CreateJointsAttr(paths)
        _samples(animation, motion, frame_rate, first_frame if k == 0 else 0, ends, rigged.name)
        if shapes:
            at = [first_frame + n if k == 0 and first_frame else t * frame_rate for n, t in enumerate(motion.times)]
            weigh_shapes(animation, shapes, motion.weights, at)
        if k == 0:
            api.CreateAnimationSourceRel().SetTargets([animation.GetPath()])
    stage.GetRootLayer().Save()


def _influences(binding, rigged: Rigged) -> None:
    """Which joints the vertices of a mesh follow, and how much."""
    from pxr import Vt

    width = rigged.indices.shape[1]
    binding.CreateJointIndicesPrimvar(False, width).Set(Vt.IntArray.FromNumpy(rigged.indices.astype(np.int32).ravel()))
    weights = rigged.weights.astype(np.float32).ravel()
    binding.CreateJointWeightsPrimvar(False, width).Set(Vt.FloatArray.FromNumpy(weights))


def skeleton_animation(stage, skeleton, bones, bind):
    """Give a skeleton the joints of `bones` (scene.bones.Bones) as they rest, and what meshes are bound in, (n, 4, 4);
    returns what animates it."""
    from pxr import Gf, UsdSkel, Vt

    names = [j.name for j in bones.joints]
    paths = _paths(names, bones.parents)
    rows = lambda matrices: Vt.Matrix4dArray([Gf.Matrix4d(*m.T.ravel().tolist()) for m in matrices])
    skeleton.CreateJointsAttr(paths)
    skeleton.CreateJointNamesAttr(names)
    skeleton.CreateRestTransformsAttr(rows(bones.rest.matrices))
    skeleton.CreateBindTransformsAttr(rows(bind))
    animation = UsdSkel.Animation.Define(stage, skeleton.GetPath().AppendChild("Motion"))
    animation.CreateJointsAttr(paths)
    UsdSkel.BindingAPI.Apply(skeleton.GetPrim()).CreateAnimationSourceRel().SetTargets([animation.GetPath()])
    return animation


def joint_values(animation):
    """(attribute, what makes its value of an array) of the places, turns and stretches of joints."""
    from pxr import Vt

    halves = lambda v: Vt.Vec3hArray.FromNumpy(np.ascontiguousarray(np.clip(v, -HALF, HALF), np.float16))
    return ((animation.CreateTranslationsAttr(), vectors), (animation.CreateRotationsAttr(), quaternions),
            (animation.CreateScalesAttr(), halves))  # fmt: skip


def bind_skin(mesh, rigged: Rigged, skeleton, bind) -> None:
    """Bind a mesh to a skeleton's prim, which has one bind (n, 4, 4) for all that follow it: how a mesh stood to that
    is told by the mesh."""
    from pxr import Gf, UsdSkel

    binding = UsdSkel.BindingAPI.Apply(mesh.GetPrim())
    _influences(binding, rigged)
    into = (bind @ rigged.back)[int(np.bincount(rigged.indices.ravel(), rigged.weights.ravel()).argmax())]
    binding.CreateGeomBindTransformAttr(Gf.Matrix4d(*into.T.ravel().tolist()))
    binding.CreateSkeletonRel().SetTargets([skeleton.GetPath()])


def bound_alike(rigged: Rigged, bind) -> bool:
    """Whether a mesh stands to the bind (n, 4, 4) of its skeleton in one way, whichever joint it is seen from."""
    used = np.unique(rigged.indices[rigged.weights > 0])
    into = (bind @ rigged.back)[used]
    return bool(np.abs(into - into[:1]).max(initial=0.0) < 1e-9 * max(np.abs(into).max(initial=1.0), 1.0))


def _with_ends(rigged: Rigged):
    """(names, parents, rest (n, 4, 4), bind (n, 4, 4), tips of the ends (e, 3)) with leaf-end joints, if wanted."""
    names, parents = list(rigged.joints), rigged.parents.tolist()
    rest, bind = list(rigged.rest.matrices), list(np.linalg.inv(rigged.back))
    ends = []
    for i in rigged.ends:
        step = np.eye(4)
        step[:3, 3] = rigged.tips[i]
        names.append(rigged.joints[i] + ENDING)
        parents.append(i)
        rest.append(step)
        bind.append(bind[i] @ step)
        ends.append(rigged.tips[i])
    return names, parents, rest, bind, np.array(ends).reshape(-1, 3)


def _paths(names, parents) -> list[str]:
    """Joints by their way from the root, each word valid and alone among its neighbours."""
    found: list[str] = [""] * len(names)
    taken = set()

    def path(i):
        if not found[i]:
            base = prim_word(names[i])
            head = f"{path(parents[i])}/" if parents[i] >= 0 else ""
            word = free_word(head + base, taken.__contains__)
            taken.add(word)
            found[i] = word
        return found[i]

    return [path(i) for i in range(len(names))]


def _stand(skeleton, motion: Motion, first_frame):
    from pxr import Gf, UsdGeom

    operation = UsdGeom.Xformable(skeleton.GetPrim()).AddTransformOp()
    matrices = motion.stands.matrices[:, 0]
    if np.abs(matrices - matrices[0]).max() < 1e-12:
        operation.Set(Gf.Matrix4d(*matrices[0].T.ravel().tolist()))
        return
    for k, m in enumerate(matrices):
        put(operation.GetAttr(), Gf.Matrix4d(*m.T.ravel().tolist()), first_frame + k)


def _geometry(mesh, rigged: Rigged):
    from pxr import UsdGeom, Vt

    own = rigged.mesh
    mesh.CreateFaceVertexCountsAttr(Vt.IntArray.FromNumpy(np.array(own.face_counts)))
    mesh.CreateFaceVertexIndicesAttr(Vt.IntArray.FromNumpy(np.array(own.face_indices)))
    mesh.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
    mesh.CreatePointsAttr(vectors(own.points))
    mesh.CreateExtentAttr(extent(own.points))
    write_looks(mesh, own)


def _samples(animation, motion: Motion, frame_rate, first_frame, ends, rigged_name):
    from pxr import Vt

    place, turn = animation.CreateTranslationsAttr(), animation.CreateRotationsAttr()
    scale = animation.CreateScalesAttr()
    for k, time in enumerate(motion.times):
        at = first_frame + (k if first_frame else time * frame_rate)
        places = np.concatenate([motion.poses.place[k], ends])
        turns = np.concatenate([motion.poses.turn[k], np.tile([0.0, 0, 0, 1], (len(ends), 1))])
        sizes = np.concatenate([motion.poses.stretch[k], np.ones((len(ends), 3))])
        if not np.abs(sizes).max() <= HALF:
            joint = int(np.unravel_index(np.argmax(~(np.abs(sizes) <= HALF)), sizes.shape)[0])
            raise EstampaError(
                rigged_name,
                f"stretches joint {joint + 1} {np.abs(sizes[joint]).max():.3g} times; OpenUSD holds up to {HALF:g}.",
                "Print it as GLB, or look for what stretches it.",
            )
        put(place, vectors(places), at)
        put(turn, quaternions(turns), at)
        put(scale, Vt.Vec3hArray.FromNumpy(sizes.astype(np.float16)), at)


def skins_of(stage) -> dict:
    """Path of a mesh -> (its skeleton, how it is skinned)."""
    from pxr import Usd, UsdSkel

    found, cache = {}, UsdSkel.Cache()
    for prim in stage.Traverse():
        if prim.IsA(UsdSkel.Root):
            root = UsdSkel.Root(prim)
            cache.Populate(root, Usd.PrimDefaultPredicate)
            for binding in cache.ComputeSkelBindings(root, Usd.PrimDefaultPredicate):
                skeleton = cache.GetSkelQuery(binding.GetSkeleton())
                for target in binding.GetSkinningTargets():
                    found[str(target.GetPrim().GetPath())] = (skeleton, target)
    return found


def skinned(points, skin, time):
    """((n, 3) points moved by their blend shapes and their skeleton, (4, 4) from there to the world), by the standard's
    own skinning."""
    from pxr import UsdGeom

    skeleton, query = skin
    joints, mapper = skeleton.ComputeSkinningTransforms(time), query.GetJointMapper()
    joints = joints if mapper is None or mapper.IsNull() else mapper.Remap(joints)
    moved = vectors(blended(points, skin, time))
    query.ComputeSkinnedPoints(joints, moved, time)
    return np.array(moved, float), np.array(UsdGeom.XformCache(time).GetLocalToWorldTransform(skeleton.GetPrim()))


class SkelReader:
    """Reads the skinned mesh back with UsdSkel's own skinning."""

    def __init__(self, path: Path):

        self._stage = usd_open.stage(path)
        self._mesh, self._skin = next(iter(skins_of(self._stage).items()))
        self._query = self._skin[0]
        self.frames = [int(t) for t in self._query.GetAnimQuery().GetJointTransformTimeSamples()]
        self.frame_rate = self._stage.GetTimeCodesPerSecond()

    def points(self, frame: float) -> np.ndarray:
        from pxr import UsdGeom

        points = UsdGeom.Mesh(self._stage.GetPrimAtPath(self._mesh)).GetPointsAttr().Get()
        moved, stand = skinned(points, self._skin, frame)
        return moved @ stand[:3, :3] + stand[3, :3]

    def joints(self, frame: float) -> np.ndarray:
        """(n, 4, 4) in the skeleton's own space, by columns."""
        return np.array(self._query.ComputeJointSkelTransforms(frame)).transpose(0, 2, 1)
