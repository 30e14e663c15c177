"""Blend shapes of skinned meshes in OpenUSD (UsdSkelBlendShape): what moves their points before the skin does."""

import numpy as np

from .distinct import MOST_SHAPES, Distinct, one_hot
from .usd import prim_word
from .usd_values import extent, free_word, put, vectors


class MorphedMesh:
    """A skinned mesh whose points before its skin are gathered, frame by frame."""

    def __init__(self, mesh):
        """mesh -- UsdGeom.Mesh, which is bound to a skeleton."""
        self.mesh, self.distinct = mesh, Distinct()
        self.frames: list[int] = []
        self.numbers: list[int] = []
        self.weights: list[np.ndarray] = []

    def add(self, frame: int, points: np.ndarray, weights: np.ndarray | None) -> None:
        """points (n, 3) m; weights (t,) of its named targets, where nothing but those moves them."""
        self.frames.append(frame)
        self.numbers.append(self.distinct.number(points))
        if weights is not None:
            self.weights.append(weights)


def write_shapes(found: list[tuple]) -> None:
    """found -- (MorphedMesh, the UsdSkel.Animation of its skeleton, its Prop) each: points, blend shapes and their
    weights over time."""
    by_animation: dict[str, tuple] = {}  # of each animation: itself, frames, names and weights
    for morphed, animation, prop in found:
        first = morphed.distinct.shapes[0]
        points, reach = morphed.mesh.CreatePointsAttr(vectors(first)), morphed.mesh.CreateExtentAttr(extent(first))
        if prop.targets:
            names, away, weights = [n for n, _ in prop.targets], [a for _, a in prop.targets], np.array(morphed.weights)
        elif len(morphed.distinct.shapes) - 1 > MOST_SHAPES:  # players that skin by UsdSkel do not see these move
            for frame, number in zip(morphed.frames, morphed.numbers, strict=True):
                put(points, vectors(morphed.distinct.shapes[number]), frame)
                put(reach, extent(morphed.distinct.shapes[number]), frame)
            continue
        else:
            away = [s - first for s in morphed.distinct.shapes[1:]]
            names = [f"Shape {k + 1}" for k in range(len(away))]
            weights = one_hot(morphed.numbers, morphed.distinct)
        if not away:
            continue
        _, _, taken, columns = by_animation.setdefault(str(animation.GetPath()), (animation, morphed.frames, [], []))
        taken += add_shapes(
            morphed.mesh, list(zip(names, away, strict=True)), [f"{prop.name}_{n}" for n in names], taken
        )
        columns += list(weights.T)
    for animation, frames, names, columns in by_animation.values():
        weigh_shapes(animation, names, np.array(columns).T, frames)


def add_shapes(mesh, targets: list[tuple[str, np.ndarray]], words: list[str], taken=()) -> list[str]:
    """Give a bound UsdGeom.Mesh a blend shape for each of `targets`, (name, (n, 3) m what it adds). words -- by which
    an animation names them; returns those, as valid ones that are none of `taken`."""
    from pxr import UsdSkel

    own: list[str] = []
    for word in words:
        own.append(free_word(prim_word(word), {*taken, *own}.__contains__))
    paths = []
    for word, (plain, away) in zip(own, targets, strict=True):
        shape = UsdSkel.BlendShape.Define(mesh.GetPrim().GetStage(), mesh.GetPath().AppendChild(word))
        shape.CreateOffsetsAttr(vectors(away))
        shape.GetPrim().SetDisplayName(plain)
        paths.append(shape.GetPath())
    if own:
        binding = UsdSkel.BindingAPI(mesh.GetPrim())
        binding.CreateBlendShapesAttr(own)
        binding.CreateBlendShapeTargetsRel().SetTargets(paths)
    return own


def weigh_shapes(animation, names: list[str], weights: np.ndarray, frames) -> None:
    """Say by an UsdSkel.Animation how much blend shapes are felt, weights (f, t), at frames (f,)."""
    from pxr import Vt

    animation.CreateBlendShapesAttr(names)
    attribute = animation.CreateBlendShapeWeightsAttr()
    for frame, row in zip(frames, np.asarray(weights, np.float32), strict=True):
        put(attribute, Vt.FloatArray.FromNumpy(np.ascontiguousarray(row)), frame)


def blended(points, skin, time) -> np.ndarray:
    """(n, 3) points of a mesh moved by its blend shapes, by the standard's own queries; skin -- of `skins_of`."""
    from pxr import UsdSkel

    skeleton, query = skin
    if not query.HasBlendShapes() or not skeleton.GetAnimQuery():
        return points
    shapes = UsdSkel.BlendShapeQuery(UsdSkel.BindingAPI(query.GetPrim()))
    weights = skeleton.GetAnimQuery().ComputeBlendShapeWeights(time)
    mapper = query.GetBlendShapeMapper()
    weights = weights if mapper is None or mapper.IsNull() else mapper.Remap(weights)
    felt, of, sub = shapes.ComputeSubShapeWeights(weights)
    moved = vectors(points)
    shapes.ComputeDeformedPoints(felt, of, sub, shapes.ComputeBlendShapePointIndices(),
                                 shapes.ComputeSubShapePointOffsets(), moved)  # fmt: skip
    return np.array(moved, float)
