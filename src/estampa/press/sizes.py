"""How large prints of a whole scene will be, from what is in it, before anything is solved or written.

What a mesh takes in a file was measured of written ones: arrays as they are, and so many bytes of text or of tables of
contents for each of them.
"""

from dataclasses import dataclass

import numpy as np

from ..evaluate.evaluator import Evaluator
from ..formats.distinct import MOST_SHAPES
from ..geometry.mesh import Mesh
from ..scene.curves import Curve
from ..scene.document import Document, Formula, Link, Thing
from ..scene.scene import Scene

PLACES = ("x", "y", "z", "turn_x", "turn_y", "turn_z", "size")
PARTED_AT_ONCE = 100_000  # corners
LOOKED_AT = 24  # frames by which it is told how copies go apart: it is told while the window waits


@dataclass(frozen=True)
class Plan:
    """A print that may be made. vertices, triangles of what it takes; frames that go into its file."""

    scene: Scene
    doc: Document
    item: Thing
    found: Thing
    vertices: int
    triangles: int
    frames: int
    v: dict


@dataclass(frozen=True)
class Costs:
    """Bytes beside arrays that are as they are: of a file, of a place that moves and of it at a frame, of a joint and
    of it at a frame, of a further shape of a mesh, of a vertex that follows a skin."""

    is_glb: bool
    base: int
    place: int
    place_frame: int
    joint: int
    joint_frame: int
    shape: int
    skinned: int


GLB = Costs(True, base=1500, place=310, place_frame=28, joint=560, joint_frame=16, shape=370, skinned=20)
USD = Costs(False, base=1500, place=0, place_frame=160, joint=250, joint_frame=16, shape=40, skinned=16)


def vertices_of(mesh: Mesh, glb: bool) -> int:
    """How many vertices a mesh has in a file. In GLB they are parted at seams, which of large ones a part tells."""
    if not glb or not mesh.corners:
        return mesh.count
    if len(mesh.face_indices) <= PARTED_AT_ONCE:
        return mesh.parted()[0].count
    rows = np.column_stack([v[:PARTED_AT_ONCE] for v in (mesh.face_indices[:, None], *mesh.corners.values())])
    share = len(np.unique(rows, axis=0)) / max(len(np.unique(rows[:, 0])), 1)
    return int(mesh.count * share)


def mesh_bytes(mesh: Mesh, glb: bool) -> int:
    """Bytes of a mesh that stands still, with its materials but not with pictures that lie beside its file."""
    held = {**mesh.corners, **mesh.vertices}
    if glb:
        sets = sum(n.startswith("uv") for n in held) + (mesh.uv is not None and "uv" not in held)
        more = sum(4 * v.shape[1] for n, v in held.items() if not n.startswith("uv") and n != "normal")
        pictures = {m.picture for m in mesh.materials if m.picture is not None}
        texts = 700 + 260 * max(len(mesh.materials), 1) + 190 * sets + sum(len(p.data) for p in pictures)
        return vertices_of(mesh, True) * (24 + 8 * sets + more) + 12 * len(mesh.triangles) + texts
    wide = sum(v.nbytes for v in (*held.values(), *mesh.faces.values())) + (
        8 * mesh.count if mesh.uv is not None else 0
    )
    return 12 * mesh.count + len(mesh.face_indices) // 3 + wide + 300 + 200 * len(mesh.materials)


def moves(thing: Thing) -> bool:
    """Whether a thing's own place is keyed, linked or computed."""
    return any(isinstance(thing.values.get(n), (Curve, Link, Formula)) for n in PLACES)


def times_of(plan: Plan, copies: Thing, shape) -> np.ndarray:
    """(f, k) moments at which copies show their subject, at each of the first so many frames, LOOKED_AT at the most."""
    first, frames = plan.item.constant("first") or plan.doc.start, min(plan.frames, LOOKED_AT)
    known = plan.doc.__dict__.setdefault("_times_of_copies", {})  # a document never changes
    key = copies.id, shape.id, first, frames
    if key not in known:
        stage = Evaluator(plan.doc, plan.scene, None).stage
        rows = [stage.many(copies, shape, first + f).rows.frames for f in range(frames)]
        known[key] = np.round(np.array(rows).reshape(len(rows), -1), 4)
    return known[key]


def shapes_of(plan: Plan, times: np.ndarray) -> int:
    """How many different moments copies show over all frames, by how many more come with each that was looked at."""
    many = len(np.unique(times))
    if plan.frames <= len(times) or len(times) < 2:
        return many
    return many + (many - len(np.unique(times[:-1]))) * (plan.frames - len(times))


def copies_bytes(plan: Plan, copies: Thing, shape, bends: bool, glb: bool) -> int:
    """Bytes of copies: their shapes over time once for all that go alike, and where each stands."""
    mesh, times = plan.scene.mesh(shape.mesh), times_of(plan, copies, shape)
    many = times.shape[1]
    alike = 1 if copies.constant("amounts") == 0 else many
    courses = max(len(np.unique(times, axis=1).T), alike) if many else 0
    still, count = mesh_bytes(mesh, glb), vertices_of(mesh, glb)
    if not many:
        return 0
    if not glb:
        shapes = courses if bends else 1
        return shapes * (still + (12 * count * (plan.frames - 1) if bends else 0)) + 56 * many
    node = 230 * many
    if not bends:
        return still + node
    every = max(shapes_of(plan, times), alike)
    prims = max(len(mesh.materials), 1)
    targets = every - 1 if every - 1 <= MOST_SHAPES else plan.frames - 1
    meshes = 1 if every - 1 <= MOST_SHAPES else courses
    texts = (22 * prims + 5) * targets + 170 * prims
    tracks = 4 * plan.frames * targets + 480
    return meshes * (still + (12 * count + 230) * targets) + many * (texts + tracks) + node
