"""Edits that take a mesh apart along a row of edges, and that put a mirrored half beside it."""

import numpy as np

from ..errors import EstampaError
from ..geometry.mesh import Mesh
from ..scene.curves import Curve
from ..scene.document import Target, Thing, WeightMap
from ..scene.ids import new_id
from ..scene.scene import Scene
from .names import Names, thing_named
from .things import mesh_ref

HALF = 0.5  # of a weight: a vertex that has it belongs to the map
SEAM = 1e-4  # of the size of a mesh: vertices as near the mirror are on it


def cut_off(scene: Scene, subject_id: str, map_id: str) -> Thing:
    """Part a subject in two along the edges between the faces that lie in a weight map and the others: it keeps those
    in the map, and a new subject, which is returned, gets the rest. Maps and shapes are parted too.

    Raises EstampaError where no edge parts them, or a skin or cage is bound to the whole.
    """
    subject = thing_named(scene, subject_id)
    mesh = scene.mesh(subject.mesh)
    kept = mesh.within(scene.arrays.get(subject.map(map_id).weights) >= HALF)
    if kept.all() or not kept.any():
        raise EstampaError(
            subject.name,
            f"has {'all' if kept.all() else 'none'} of its faces in the map “{subject.map(map_id).name}”, so no row of "
            "edges parts it.",
            "Give the part that stays the weight 1 and the other 0.",
        )
    _refuse_bound(subject)
    name = Names(scene.doc).plain(f"{subject.name}, rest")
    stays, rest = (_only(scene, subject, mesh, own) for own in (kept, ~kept))
    rest = rest.with_(id=new_id(), name=name, stack=())
    things = list(scene.doc.things)
    at = [t.id for t in things].index(subject_id)
    things[at : at + 1] = [stays, rest]
    scene.apply(f"Cut off {name}", scene.doc.with_(things=tuple(things)))
    return rest


def _refuse_bound(subject: Thing) -> None:
    bound = next((l for l in subject.stack if l.bind is not None), None)
    if bound is not None:
        raise EstampaError(
            subject.name, f"has “{bound.name}”, which is bound to its vertices as they are.",
            "Do this before it is bound, or remove that layer and bind again.",
        )  # fmt: skip


def _only(scene, subject, mesh, faces) -> Thing:
    """A subject of some faces (f,) bool of its mesh, with its maps and shapes."""
    points = np.zeros(mesh.count, bool)
    points[mesh.face_indices[np.repeat(faces, mesh.face_counts)]] = True
    put, get = scene.arrays.put, scene.arrays.get
    return subject.with_(
        mesh=mesh_ref(scene, mesh.only(points, faces), subject.mesh.source),
        maps=tuple(m.with_(weights=put(get(m.weights)[points])) for m in subject.maps),
        targets=tuple(t.with_(points=put(get(t.points)[points])) for t in subject.targets),
    )


def rims_off(scene: Scene, subject_id: str, axis: str = "x") -> dict[str, float]:
    """Name of a captured shape -> m by which its rim stands off the mirror on which the mesh has its own; of those that
    do."""
    subject, a = thing_named(scene, subject_id), "xyz".index(axis)
    if subject.mesh is None:
        return {}
    mesh = scene.mesh(subject.mesh)
    seam = _on_mirror(mesh, a)
    off = {t.name: np.abs(scene.arrays.get(t.points)[seam, a]).max(initial=0.0) for t in subject.targets}
    return {name: float(far) for name, far in off.items() if far > SEAM * float(mesh.size.max())}


def _on_mirror(mesh, a) -> np.ndarray:
    return np.abs(mesh.points[:, a]) <= SEAM * float(mesh.size.max())


def add_mirrored(
    scene: Scene, subject_id: str, axis: str = "x", later: float = 0.0, welded: bool = True
) -> tuple[str, str]:
    """Put the mirrored half beside a mesh, across the plane through its origin along which `axis` (x, y or z) is 0, its
    faces turned so that they look outwards.

    welded -- the halves share the vertices on the plane, and captured shapes have theirs moved onto it, see `rims_off`;
    else each half has its own, and nothing is moved. Maps and shapes are mirrored along. Each morph layer is doubled:
    the one that was there moves the half that was there, a second one the new half, with keys `later` frames later.
    Returns the ids of the maps of the two halves.
    """
    subject = thing_named(scene, subject_id)
    mesh, put, get = scene.mesh(subject.mesh), scene.arrays.put, scene.arrays.get
    _refuse_bound(subject)
    a, n = "xyz".index(axis), mesh.count
    seam = _on_mirror(mesh, a) & welded
    fresh = np.flatnonzero(~seam)  # vertices of which there will be two
    other = np.where(seam, np.arange(n), 0)
    other[fresh] = n + np.arange(len(fresh))
    flip = np.where(np.arange(3) == a, -1.0, 1.0)
    both = lambda values: np.concatenate([values, values[fresh]])

    def shape(points):
        points = points.copy()
        points[seam, a] = 0.0  # what lies on the mirror stays on it, so that the halves hold together
        return np.concatenate([points, points[fresh] * flip])

    back = mesh.other_way_round
    mirrored = lambda name, values: values * (flip if name == "normal" else 1)
    turned = {name: mirrored(name, values[back]) for name, values in mesh.corners.items()}
    twice = lambda values: None if values is None else np.concatenate([values, values])
    made = Mesh(
        shape(mesh.points), twice(mesh.face_counts),
        np.concatenate([mesh.face_indices, other[mesh.face_indices[back]]]),
        None if mesh.uv is None else both(mesh.uv), mesh.materials, twice(mesh.face_materials), None,
        {name: np.concatenate([values, turned[name]]) for name, values in mesh.corners.items()}, None,
        {name: np.concatenate([values, mirrored(name, values[fresh])]) for name, values in mesh.vertices.items()},
        {name: twice(values) for name, values in mesh.faces.items()},
    )  # fmt: skip
    first, second = np.ones(made.count, np.float32), np.ones(made.count, np.float32)
    first[n:], second[:n] = 0, np.where(seam, 1, 0)
    first[:n][seam] = second[:n][seam] = HALF
    halves = [WeightMap(name=name, weights=put(w)) for name, w in (("First half", first), ("Mirrored half", second))]
    maps = [m.with_(weights=put(both(get(m.weights)))) for m in subject.maps]
    targets = tuple(Target(id=t.id, name=t.name, points=put(shape(get(t.points)))) for t in subject.targets)
    stack, names = [], Names(scene.doc)
    for layer in subject.stack:
        if layer.kind != "morph" or layer.values.get("map"):
            stack.append(layer)
            continue
        stack.append(layer.with_(values={**layer.values, "map": halves[0].id}))
        values = {n: _later(v, later) if isinstance(v, Curve) else v for n, v in layer.values.items()}
        copy = layer.with_(id=new_id(), name=names.plain(layer.name), values={**values, "map": halves[1].id})
        stack.append(copy)
    ready = subject.with_(
        mesh=mesh_ref(scene, made, subject.mesh.source), maps=(*maps, *halves), targets=targets, stack=tuple(stack)
    )
    scene.apply(f"Mirrored half of {subject.name}", scene.doc.replace(ready))
    return halves[0].id, halves[1].id


def _later(curve: Curve, frames: float) -> Curve:
    return curve.model_copy(update={"keys": tuple(k.with_(frame=k.frame + frames) for k in curve.keys)})
