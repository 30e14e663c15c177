"""What a picture of a frame is made of: worked out beside the window, drawn by any pane."""

from dataclasses import dataclass, field

import numpy as np

from ..evaluate.evaluator import Evaluator
from ..geometry.mesh import Mesh
from ..geometry.primitives import joined
from ..scene.bones import Bones
from ..scene.copies import only_in_copies
from ..scene.document import Thing
from ..scene.values import Rows


@dataclass
class LookedShape:
    """A subject, or copies of one. When `stand` is given, the mesh is drawn in each of those places."""

    points: np.ndarray  # (n, 3) float64
    normals: np.ndarray
    mesh: Mesh
    true: bool = True
    shown_frame: float | None = None
    stand: np.ndarray | None = None  # (k, 4, 4)
    base: np.ndarray | None = None  # the subject's own vertices, when a layer changes topology
    smooth: float = 0.72
    copies: int = 1

    @property
    def own(self) -> np.ndarray:
        """(n, 3) where the vertices of the subject's own mesh are."""
        return self.points if self.base is None else self.base


@dataclass
class Looked:
    """The shapes of one frame, ready to be drawn."""

    frame: float
    shapes: dict[str, LookedShape] = field(default_factory=dict)
    ghosts: list[tuple[float, LookedShape]] = field(default_factory=list)  # (frames away, shape)
    held: dict[str, LookedShape] = field(default_factory=dict)  # of the result that is held to compare
    joints: dict[str, "LookedJoints"] = field(default_factory=dict)  # of skeletons


@dataclass
class LookedJoints:
    """A skeleton's joints at a frame: (n, 4, 4) in the world."""

    bones: Bones
    world: np.ndarray
    true: bool = True
    shown_frame: float | None = None

    def ends(self) -> tuple[np.ndarray, np.ndarray]:
        """((s, 3) starts, (s, 3) ends) of every segment."""
        return self.bones.segment_ends(self.world)


def look_at_subject(evaluator: Evaluator, subject: Thing, frame: float) -> LookedShape:
    shape = evaluator.subject(subject, frame)
    layers = evaluator.layers(subject)
    mesh = evaluator.mesh(subject)
    base = None
    remeshes = [i for i, l in enumerate(layers) if l.declared.remeshes]
    if remeshes:
        base = evaluator.through(subject, layers[: remeshes[0]], frame).points
    smooth = float(np.cos(evaluator.values.at(subject, "smooth", frame)))
    return LookedShape(
        shape.points, mesh.normals(shape.points), mesh, shape.true, shape.shown_frame, base=base, smooth=smooth
    )


def look_at_copies(evaluator: Evaluator, copies: Thing, frame: float) -> LookedShape | None:
    found = evaluator.copies(copies, frame)
    if found is None or found.places.rows == 0:
        return None
    shape, mesh, count = found.shape, found.mesh, found.places.rows
    subject = evaluator.doc.shape_of(copies)
    smooth = float(np.cos(evaluator.values.at(subject, "smooth", frame)))
    more = {"true": shape.true, "shown_frame": shape.shown_frame, "smooth": smooth, "copies": count}
    if found.alike:
        points = shape.points[0]
        return LookedShape(points, mesh.normals(points), mesh, stand=found.places.matrices, **more)
    points = found.points()
    return LookedShape(
        points.reshape(-1, 3), mesh.normals(points).reshape(-1, 3), _many(evaluator, mesh, count), **more
    )


def _many(evaluator, mesh, count) -> Mesh:
    """A mesh `count` times over, as one; made once."""
    kept = evaluator.scene.solver_cache.get(("many", id(mesh)))
    if kept is None or kept[0] is not mesh or kept[1] != count:
        kept = evaluator.scene.solver_cache["many", id(mesh)] = (mesh, count, joined([mesh] * count))
    return kept[2]


def look(evaluator: Evaluator, frame: float) -> Looked:
    """Everything that is on at a frame."""
    result, hidden = Looked(frame), only_in_copies(evaluator.doc)
    for thing in evaluator.doc.things:
        if not thing.on or thing.id in hidden:
            continue
        if thing.kind == "subject":
            result.shapes[thing.id] = look_at_subject(evaluator, thing, frame)
        elif thing.kind == "copies":
            found = look_at_copies(evaluator, thing, frame)
            if found is not None:
                result.shapes[thing.id] = found
        elif thing.kind == "skeleton" and thing.joints:
            posed = evaluator.poses.at(thing, frame)
            world = evaluator.poses.world(thing, frame)
            result.joints[thing.id] = LookedJoints(posed.bones, world, posed.true, posed.shown_frame)
    return result


def look_at(evaluator: Evaluator, thing: Thing, frame: float) -> LookedShape | None:
    """One subject or set of copies, even while it is off."""
    if thing.kind == "subject":
        return look_at_subject(evaluator, thing, frame)
    return look_at_copies(evaluator, thing, frame) if thing.kind == "copies" else None


def trail(evaluator: Evaluator, thing: Thing, frames) -> np.ndarray | None:
    """(f, 3) where a thing stands over frames; None when it does not move."""
    if thing.declared is None or "parent" not in thing.declared.channels:
        return None
    places = evaluator.values.place(thing, Rows.over(frames)).spread(len(frames))
    return places.origin if np.ptp(places.origin, axis=0).max() > 1e-9 else None


def tints(mesh: Mesh) -> np.ndarray | None:
    """(n, 3) float32 colour of each vertex, by its faces' materials; None without materials."""
    if mesh.face_materials is None or not mesh.materials:
        return None
    kept = mesh.__dict__.get("_tints")
    if kept is None:
        linear = np.array([c for _, c in mesh.materials], np.float32)
        # to the screen's curve: IEC 61966-2-1 (sRGB)
        colours = np.where(linear <= 0.0031308, 12.92 * linear, 1.055 * np.maximum(linear, 0) ** (1 / 2.4) - 0.055)
        kept = np.full((mesh.count, 3), 0.8, np.float32)
        kept[mesh.face_indices] = colours[np.repeat(mesh.face_materials, mesh.face_counts)]
        mesh.__dict__["_tints"] = kept
    return kept


def difference(a: LookedShape, b: LookedShape) -> tuple[float, float] | None:
    """(mean, largest) distance in metres between two results of the same mesh."""
    if (
        a.stand is not None
        and b.stand is not None
        and a.stand.shape == b.stand.shape
        and a.points.shape == b.points.shape
    ):
        p, q = (np.einsum("kij,nj->kni", s.stand[:, :3, :3], s.points) + s.stand[:, None, :3, 3] for s in (a, b))
    elif a.stand is None and b.stand is None and a.points.shape == b.points.shape:
        p, q = a.points, b.points
    else:
        return None
    apart = np.linalg.norm(p - q, axis=-1)
    return float(apart.mean()), float(apart.max())
