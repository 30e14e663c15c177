"""One gate: a document from outside is checked completely before anything else sees it.

The models of `document.py` check each value alone. Here is what needs the whole: where a kind may stand, what a
reference may name, that arrays fit what they are of, how much there is, and that nothing needs itself.
"""

import numpy as np

from ..errors import EstampaError
from .bones import Bones
from .document import Thing
from .graph import refuse_ring
from .limit_checks import Beyond, check_document
from .limits import FAR, LARGEST
from .scene import Scene

WIDE, NARROW, WHOLE, BYTES = "<f8", "<f4", "<i4", "|u1"


class Faulty(Exception):
    """(cause) a fault that the gate found; the file's name is added to it."""


def check(what: str, scene: Scene) -> None:
    """Raises EstampaError that names the file `what`, the thing in it, and its trouble."""
    try:
        for step in (_ids, _places, _rests, _arrays):
            step(scene)
        check_document(scene.doc)
        refuse_ring(scene.doc, what)
    except (Faulty, Beyond) as err:
        cure = "It was not opened; open an earlier copy, or mend it where it was made."
        raise EstampaError(what, f"{err}.", cure) from None


def _need(ok, words: str) -> None:
    if not ok:
        raise Faulty(words)


# -- where things stand --------------------------------------------------------------------------------------
def _ids(scene: Scene) -> None:
    ids = [t.id for t, _ in scene.doc.everything()]
    _need(len(ids) == len(set(ids)), "holds two things of one id")


def _places(scene: Scene) -> None:
    """Each kind stands where it can: layers on what they move, joints in a skeleton, prints in the press."""
    doc = scene.doc
    for thing in doc.things:
        _stands(thing, ("thing", "force", "ensemble"), "among the things of a scene")
        shape, moved = (thing.declared.shape_of, thing.declared.moves) if thing.declared else (None, "")
        _need(shape != "" or thing.mesh is not None, f"has a subject without a mesh ({thing.name})")
        for layer in thing.stack:
            _stands(layer, ("layer",) if moved else (), f"in the stack of {thing.name}")
            fits = layer.declared is None or layer.declared.moves == moved
            _need(fits, f"has {layer.name} on {thing.name}, which it cannot move")
        for joint in thing.joints:
            _stands(joint, ("joint",) if moved == "joints" else (), f"among the joints of {thing.name}")
            _need(joint.declared is not None, f"has “{joint.name}” among the joints of {thing.name}, which is none")
        for part in (*thing.stack, *thing.joints):
            _need(not part.stack and not part.joints, f"has a stack within {part.name}")
    for item in doc.prints:
        _stands(item, ("print",), "in the press")


def _stands(thing: Thing, families, where: str) -> None:
    declared = thing.declared
    ok = declared is None or declared.family in families
    _need(ok, f"has “{thing.name}”, a {declared.title.lower() if declared else ''}, {where}, where it cannot stand")


def _rests(scene: Scene) -> None:
    for skeleton in scene.doc.skeletons:
        try:
            Bones.of(skeleton)
        except EstampaError as err:
            raise Faulty(f"has a skeleton, {err.what}, that {err.cause.rstrip('.')}") from None


# -- arrays --------------------------------------------------------------------------------------------------
def _arrays(scene: Scene) -> None:
    for subject in scene.doc.things:
        for thing in (subject, *subject.stack):
            if thing.adopted is not None:
                _adopted(scene, thing)
        if subject.mesh is None:
            continue
        count = _mesh(scene, subject)
        for found in subject.maps:
            words = f"a weight map “{found.name}” that does not fit the mesh of “{subject.name}”"
            weights = _array(scene, found.weights, words, NARROW, (count,))
            _need(weights.min(initial=0) >= 0 and weights.max(initial=0) <= 1, f"has weights outside 0 to 1 in {words}")
        for target in subject.targets:
            words = f"a morph target “{target.name}” that does not fit the mesh of “{subject.name}”"
            _array(scene, target.points, words, WIDE, (count, 3))
        for layer in subject.stack:
            if layer.bind is not None:
                _bind(scene, subject, layer, count)


def _array(scene: Scene, name: str, words: str, kind: str, shape: tuple) -> np.ndarray:
    """The array of that name, when it is of exactly that type and of a shape (None: any length).

    Another type of the same numbers would have every kernel compiled anew.
    """
    array = scene.arrays.get(name)
    fits = array.ndim == len(shape) and all(w in (None, n) for w, n in zip(shape, array.shape, strict=False))
    _need(fits and array.dtype.str == kind, f"holds {words}")
    usable = kind in (WHOLE, "<i8", BYTES) or np.abs(array).max(initial=0) <= FAR
    _need(usable, f"holds {words}: not all of it is usable numbers")
    return array


def _mesh(scene: Scene, subject: Thing) -> int:
    ref, words = subject.mesh, f"a damaged mesh in “{subject.name}”"
    points = _array(scene, ref.points, words, WIDE, (None, 3))
    faces = _array(scene, ref.face_counts, words, WHOLE, (None,))
    corners = _array(scene, ref.face_indices, words, WHOLE, (None,))
    _need(len(points) and len(faces) and len(corners), f"holds {words}")
    # counts are held against the corners that are there before a sum of them can run over
    _need(faces.min() >= 3 and faces.max() <= len(corners), f"holds {words}")
    _need(int(faces.astype(np.int64).sum()) == len(corners), f"holds {words}")
    _need(corners.min() >= 0 and corners.max() < len(points), f"holds {words}")
    if ref.uv:
        words = f"texture coordinates that do not fit the mesh of “{subject.name}”"
        _array(scene, ref.uv, words, NARROW, (len(points), 2))
    domains = ((ref.corners, "corners", len(corners)), (ref.vertices, "vertices", len(points)),
               (ref.faces, "faces", len(faces)))  # fmt: skip
    for held, domain, count in domains:
        for name, values in held:
            what = f"what {domain} of “{subject.name}” have ({name}), which does not fit them"
            found = _array(scene, values, what, NARROW, (count, None))
            _need(1 <= found.shape[1] <= 4 and (name != "uv" or found.shape[1] == 2), f"holds {what}")
    if ref.face_materials:
        words = f"materials that do not fit the mesh of “{subject.name}”"
        of = _array(scene, ref.face_materials, words, WHOLE, (len(faces),))
        _need(of.min() >= 0 and of.max() < max(len(ref.materials), 1), f"holds {words}")
    for material in ref.materials:
        if material.picture:
            _array(scene, material.picture, f"a damaged picture in “{subject.name}”", BYTES, (None,))
    try:
        scene.mesh(ref).check(subject.name)
    except EstampaError as err:
        raise Faulty(f"holds a mesh, “{err.what}”, that {err.cause.rstrip('.')}") from None
    return len(points)


def _adopted(scene: Scene, thing: Thing) -> None:
    """A start state: usable numbers, a row of each column for each id."""
    words = f"a start state of “{thing.name}” that is damaged"
    for table in thing.adopted.tables.values():
        arrays = [scene.arrays.get(name) for name in table.columns.values()]
        _need(arrays and all(a.ndim in (1, 2, 3) and a.dtype.kind in "fiu" for a in arrays), f"holds {words}")
        usable = all(a.dtype.kind != "f" or np.abs(a).max(initial=0) <= LARGEST for a in arrays)
        _need(usable, f"holds {words}: not all of it is usable numbers")
        count = len(arrays[0])
        _need(all(len(a) == count for a in arrays), f"holds {words}")
        if table.rest is not None:
            _array(scene, table.rest, words, WIDE, (count, 3))
        if table.ids is not None:
            ids = _array(scene, table.ids, words, "<i8", (count,))
            _need((np.diff(ids) > 0).all(), f"holds {words}")


def _bind(scene: Scene, subject: Thing, layer: Thing, count: int) -> None:
    bind, words = layer.bind, f"a bind of “{layer.name}” that does not fit “{subject.name}”"
    if bind.indices is None:  # a cage
        weights = _array(scene, bind.weights, words, NARROW, (count, None))
        held = scene.doc.find(layer.constant("cage")) if "cage" in layer.declared.channels else None
        ok = held is None or held.mesh is None or weights.shape[1] == len(scene.arrays.get(held.mesh.points))
        _need(ok, f"holds {words}")
        return
    indices = _array(scene, bind.indices, words, WHOLE, (count, None))
    weights = _array(scene, bind.weights, words, NARROW, (count, None))
    _need(weights.shape == indices.shape and indices.shape[1] >= 1, f"holds {words}")
    _need(len(bind.joints) > 0 and 0 <= indices.min() and indices.max() < len(bind.joints), f"holds {words}")
    whole = np.abs(weights.sum(axis=1) - 1).max() < 1e-3
    _need(weights.min() >= 0 and whole, f"holds {words}: weights must sum to one")
    _need(bind.back is not None, f"holds {words}")
    _array(scene, bind.back, words, WIDE, (len(bind.joints), 4, 4))
