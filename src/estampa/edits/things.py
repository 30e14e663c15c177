"""Edits of things: adding, removing, naming, copying, ordering."""

import math
from itertools import chain

import numpy as np

from ..errors import EstampaError
from ..geometry.mesh import Mesh
from ..geometry.primitives import joined
from ..kinds.registry import MOVED, layers_for
from ..scene.curves import Curve
from ..scene.document import Adopted, Document, Formula, Frozen, Link, MaterialRef, MeshRef, Thing
from ..scene.ids import new_id
from ..scene.limits import MOST_SPOTS
from ..scene.scene import Arrays, Scene
from ..scene.values import Rows, Values
from .channels import checked_values
from .names import Names, declared_kind, thing_named, unique_name

GROUP = "group"  # of faces, the number of the mesh that they were joined from


def add_mesh(scene: Scene, mesh: Mesh, name: str, source: str = "") -> Thing:
    """Add a subject with a mesh, in metres; `source` is the name of the file that it came from."""
    return add_thing(scene, "subject", name=name, mesh=mesh_ref(scene, mesh, source))


def split(scene: Scene, subject_id: str, by: str = "island") -> list[Thing]:
    """Make each island of a subject one of its own, the largest first, or what is of each of its materials, or what
    were subjects before they were joined; its maps are taken along. by -- "island", "material" or "group". Raises
    EstampaError when it is one piece, or has layers, which are of the whole."""
    subject = thing_named(scene, subject_id)
    mesh = scene.mesh(subject.mesh)
    parts = {"island": _islands, "material": _of_materials, "group": _of_groups}[by](mesh)
    if len(parts) < 2:
        words = {"island": "is one island", "material": "has one material", "group": "was not joined of several"}[by]
        raise EstampaError(subject.name, f"{words}, so there is nothing to split.", "Split what has several.")
    if subject.stack:
        raise EstampaError(subject.name, "has layers, which are of the whole of it.", "Split it before it gets layers.")
    found, names = [], Names(scene.doc)
    for own, faces, more in parts:
        maps = [m.with_(id=new_id(), weights=scene.arrays.put(scene.arrays.get(m.weights)[own])) for m in subject.maps]
        ref = mesh_ref(scene, mesh.only(own, faces), subject.mesh.source)
        name = names.plain(f"{subject.name} {more}") if more else names.numbered(subject.name)
        found.append(Thing(kind="subject", name=name, values=subject.values, mesh=ref, maps=tuple(maps)))
    things = [t for t in scene.doc.things]
    place = things.index(subject)
    scene.apply(f"Split {subject.name}", scene.doc.with_(things=(*things[:place], *found, *things[place + 1 :])))
    return found


def _islands(mesh: Mesh) -> list[tuple]:
    """(vertices (n,) bool, None, no words) of each island, the largest first."""
    islands, count = mesh.islands, mesh.island_count
    size = [float(np.prod(np.ptp(mesh.points[islands == i], axis=0) + 1e-9)) for i in range(count)]
    return [(islands == i, None, "") for i in np.argsort(size, kind="stable")[::-1]]


def _of_materials(mesh: Mesh) -> list[tuple]:
    """(vertices (n,) bool, faces (f,) bool, name) of each material that is used."""
    found = []
    for number in np.unique(mesh.face_materials) if mesh.face_materials is not None else ():
        faces = mesh.face_materials == number
        found.append((_corners_of(mesh, faces), faces, mesh.materials[number].name))
    return found


def _of_groups(mesh: Mesh) -> list[tuple]:
    """(vertices (n,) bool, faces (f,) bool, no words) of each mesh that it was joined of."""
    if GROUP not in mesh.faces:
        return []
    of, found = mesh.faces[GROUP][:, 0], []
    for number in np.unique(of):
        faces = of == number
        found.append((_corners_of(mesh, faces), faces, ""))
    return found


def _corners_of(mesh: Mesh, faces) -> np.ndarray:
    """(n,) bool, vertices of some faces (f,) bool."""
    own = np.zeros(mesh.count, bool)
    own[mesh.face_indices[np.repeat(faces, mesh.face_counts)]] = True
    return own


def _grouped(meshes: list[Mesh]) -> list[Mesh]:
    """Meshes whose faces tell which of them they are of, in the numbers that they have already or new ones."""
    found, first = [], 0
    for mesh in meshes:
        own = mesh.faces.get(GROUP, np.zeros((len(mesh.face_counts), 1), np.float32))
        made = mesh.with_points(mesh.points)
        made.faces = {**mesh.faces, GROUP: (own - own.min() + first).astype(np.float32)}
        first += int(np.ptp(own)) + 1
        found.append(made)
    return found


def join(scene: Scene, subject_id: str) -> Thing:
    """Make a subject and all that rides on it one, as they stand; what rides on those rides on it. Raises EstampaError
    where nothing rides on it, or one of them has layers or moves by itself."""
    doc, subject = scene.doc, thing_named(scene, subject_id)
    others = [t for t in doc.subjects if t.id != subject.id and rides_on(doc, t, subject.id)]
    if not others:
        raise EstampaError(subject.name, "carries no other subject.", "Let those that are to join it ride on it.")
    bad = next((t for t in (subject, *others) if t.stack), None)
    if bad is not None:
        raise EstampaError(bad.name, "has layers, which are of it alone.", "Join before they get layers.")
    moving = next((t for t in others if any(isinstance(v, (Curve, Link, Formula)) for v in t.values.values())), None)
    if moving is not None:
        raise EstampaError(moving.name, "moves by itself.", "Delete its keys first, or leave it by itself.")
    values, rows = scene.values, Rows.one(doc.start)
    back = values.place(subject, rows).inverse()
    meshes = [scene.mesh(subject.mesh)]
    for t in others:
        mesh = scene.mesh(t.mesh)
        meshes.append(mesh.with_points((back @ values.place(t, rows)).apply(mesh.points[None])[0]))
    made = subject.with_(mesh=mesh_ref(scene, joined(_grouped(meshes)), subject.mesh.source), maps=(), targets=())
    gone, things = {t.id for t in others}, []
    for t in doc.things:
        if t.id in gone:
            continue
        t = made if t.id == subject.id else t
        things.append(t.with_(values={**t.values, "parent": subject.id}) if t.values.get("parent") in gone else t)
    scene.apply(f"Join {subject.name}", doc.with_(things=tuple(things)))
    return scene.doc.find(subject.id)


def rides_on(doc, thing, on: str) -> bool:
    """Whether a thing rides on another one, itself or by way of others."""
    seen = set()
    while thing is not None and thing.id not in seen:
        seen.add(thing.id)
        parent = thing.constant("parent") if "parent" in thing.declared.channels else None
        if parent == on:
            return True
        thing = doc.find(parent) if parent else None
    return False


def _kept(put, m) -> MaterialRef:
    own = m._asdict() | {"picture": None, "picture_name": ""}
    if m.picture is not None:
        own |= {"picture": put(np.frombuffer(m.picture.data, np.uint8)), "picture_name": m.picture.name}
    return MaterialRef(**own)


def mesh_ref(scene: Scene, mesh: Mesh, source: str = "", **origin) -> MeshRef:
    """Put the arrays of a mesh into the scene; returns what names them. origin -- file, node and fit, where known."""
    ref = reference(scene.arrays, mesh, source, **origin)
    scene.know_mesh(ref, mesh)
    return ref


def reference(arrays: Arrays, mesh: Mesh, source: str = "", **origin) -> MeshRef:
    """The same for arrays that are put into a scene later. Those of the mesh are not to be written to any more."""
    mesh.freeze()
    put = arrays.put
    named = lambda held: tuple((name, put(values)) for name, values in sorted(held.items()))
    return MeshRef(
        **origin,
        points=put(mesh.points),
        face_counts=put(mesh.face_counts),
        face_indices=put(mesh.face_indices),
        uv=put(mesh.uv) if mesh.uv is not None else None,
        source=source,
        materials=tuple(_kept(put, m) for m in mesh.materials),
        face_materials=put(mesh.face_materials) if mesh.face_materials is not None else None,
        corners=named(mesh.corners),
        vertices=named(mesh.vertices),
        faces=named(mesh.faces),
    )


def add_thing(
    scene: Scene,
    kind: str,
    name: str | None = None,
    values: dict | None = None,
    mesh: MeshRef | None = None,
    spots: tuple = (),
) -> Thing:
    """Add a subject, grip, zone, path, camera, copies, force or print."""
    declared = declared_kind(kind)
    name = unique_name(scene.doc, name or declared.title)
    values = checked_values(kind, name, values or {})
    thing = Thing(kind=kind, name=name, values=values, mesh=mesh, spots=_usable(name, spots))
    scene.apply(f"Add {thing.name}", scene.doc.adding(thing))
    return thing


def add_layer(
    scene: Scene,
    subject_id: str,
    kind: str,
    name: str | None = None,
    values: dict | None = None,
    grip: dict | None = None,
) -> Thing:
    """Add a layer at the foot of a stack. With `grip`, a new grip of these values goes with it, in the
    same step of the history, on the channel that the layer has for one (`grip`, `around` or `target`)."""
    declared = declared_kind(kind)
    subject = thing_named(scene, subject_id)
    if declared not in layers_for(subject.kind):
        moved = MOVED.get(declared.moves, "nothing in a stack")
        raise EstampaError(declared.title, f"moves {moved}, so it cannot go on {subject.name}.", "Select another one.")
    doc, values = scene.doc, dict(values or {})
    layer_name = unique_name(doc, name or declared.title)
    if declared.moves == "points" and any(l.on and l.declared and l.declared.parts_mesh for l in subject.stack):
        values = {**declared.on_pieces, **values}
    if grip is not None:
        holder_name = unique_name(doc, f"{layer_name} grip")
        holder = Thing(kind="grip", name=holder_name, values=checked_values("grip", holder_name, grip))
        channel = declared.grip_by_hand() or next(n for n in ("grip", "around") if n in declared.channels)
        doc, values[channel] = doc.adding(holder), holder.id
    if declared.ensemble and not declared.solo and not values.get("together"):
        doc, values["together"] = ensemble_in(doc, declared.ensemble)
    layer = Thing(kind=kind, name=layer_name, values=checked_values(kind, layer_name, values))
    scene.apply(f"Add {layer.name}", doc.replace(subject.with_(stack=(*subject.stack, layer))))
    return layer


def ensemble_in(doc: Document, kind: str) -> tuple[Document, str]:
    """(the document, the id of the first ensemble of a kind); it is made when there is none."""
    found = next(iter(doc.of_kind(kind)), None)
    if found is None:
        found = Thing(kind=kind, name=unique_name(doc, declared_kind(kind).title))
        doc = doc.adding(found)
    return doc, found.id


def remove(scene: Scene, thing_id: str) -> None:
    """Remove a thing. Channels that name it are cleared, and those that read its channels keep what they are worth
    at the first frame, in the same step. What hangs on a joint needs `joints.remove_joint`, which keeps it in place."""
    thing = thing_named(scene, thing_id)
    if thing.kind == "joint":
        raise EstampaError(thing.name, "is a joint, on which others may hang.", "Take joints.remove_joint.")
    values, gone = Values(scene.doc), {thing_id, *(l.id for l in thing.stack)}
    doc = scene.doc.remove(thing_id)
    gone |= {j.id for j in thing.joints}
    for other, _ in list(doc.everything()):
        kept = {n: v for n, v in other.values.items() if not (isinstance(v, str) and v in gone)}
        for name, source in other.sources():
            if source.thing in gone and name in kept:
                kept[name] = values.at(other, name, doc.start)
        if kept != other.values:
            doc = doc.replace(other.with_(values=kept))
    scene.apply(f"Remove {thing.name}", doc)


def rename(scene: Scene, thing_id: str, name: str) -> None:
    """Give a thing another name, with a number where that is taken."""
    thing, name = thing_named(scene, thing_id), name.strip()
    if name and name != thing.name:
        scene.apply(f"Rename {thing.name}", scene.doc.replace(thing.with_(name=unique_name(scene.doc, name))))


def set_on(scene: Scene, thing_id: str, on: bool) -> None:
    """Switch a thing on or off."""
    thing = thing_named(scene, thing_id)
    scene.apply(f"Switch {thing.name} {'on' if on else 'off'}", scene.doc.replace(thing.with_(on=on)))


def duplicate(scene: Scene, thing_id: str) -> Thing:
    """Copy a thing with all that is its own. A joint takes along what hangs on it, and hangs on the same joint."""
    thing, owner, doc = thing_named(scene, thing_id), scene.doc.owner(thing_id), scene.doc
    if owner is not None and thing in owner.joints:
        bones = scene.values.bones(owner)
        hung = [bones.joints[i] for i in bones.below(bones.where[thing_id])]
        ids, names = {j.id: new_id() for j in hung}, Names(doc)
        copies = [with_ids(joint, ids).with_(name=names.plain(joint.name)) for joint in hung]
        copy = copies[0]
        doc = doc.replace(owner.with_(joints=(*owner.joints, *copies)))
    else:
        ids = {t.id: new_id() for t in (thing, *thing.stack, *thing.joints, *thing.clips)}
        copy = with_ids(thing, ids).with_(name=unique_name(doc, thing.name))
        if owner is not None:
            i = owner.stack.index(thing) + 1
            doc = doc.replace(owner.with_(stack=(*owner.stack[:i], copy, *owner.stack[i:])))
        else:
            where = "prints" if thing in doc.prints else "things"
            doc = doc.with_(**{where: (*getattr(doc, where), copy)})
    scene.apply(f"Duplicate {thing.name}", doc)
    return copy


def with_ids(value, ids: dict[str, str]):
    """A thing, or a part of one, with other ids wherever it names itself or a part of itself."""
    if isinstance(value, Frozen):
        parts = type(value).model_fields
        return value.with_(**{n: with_ids(getattr(value, n), ids) for n in parts})
    if isinstance(value, dict):
        return {n: with_ids(v, ids) for n, v in value.items()}
    if isinstance(value, (list, tuple)):
        return type(value)(with_ids(v, ids) for v in value)
    return ids.get(value, value) if isinstance(value, str) else value


def move_layer(scene: Scene, layer_id: str, place: int) -> None:
    """Move a layer to a place in its own stack, 0 on top."""
    layer, owner = thing_named(scene, layer_id), scene.doc.owner(layer_id)
    if owner is None or layer not in owner.stack:
        raise EstampaError(layer.name, "stands in no stack, so it has no order.", "Select a layer.")
    rest = [l for l in owner.stack if l.id != layer_id]
    rest.insert(max(0, min(place, len(rest))), layer)
    if tuple(rest) != owner.stack:
        scene.apply(f"Move {layer.name}", scene.doc.replace(owner.with_(stack=tuple(rest))))


def set_spots(scene: Scene, thing_id: str, spots, label: str, merge: str | None = None) -> None:
    """Set a path's points (x, y, z in metres) or the places of copies made by hand (x, y, z, turn in rad, size)."""
    thing = thing_named(scene, thing_id)
    scene.apply(label, scene.doc.replace(thing.with_(spots=_usable(thing.name, spots))), merge)


def _usable(name: str, spots) -> tuple[tuple[float, ...], ...]:
    """Points as they are kept. Raises EstampaError for what is no point, or too many of them."""
    if len(spots) > MOST_SPOTS:
        raise EstampaError(name, f"would have {len(spots):,} points.", f"{MOST_SPOTS:,} are the most.")
    try:
        rows = tuple(tuple(float(x) for x in spot) for spot in spots)
    except (TypeError, ValueError, OverflowError):
        rows = ((),)
    if any(len(row) not in (3, 5) for row in rows):
        raise EstampaError(name, "would have a point that is none.", "Give x, y, z; of a copy its turn and size too.")
    if not all(map(math.isfinite, chain.from_iterable(rows))):
        raise EstampaError(name, "would have a point that is not a number.", "Undo, and move it again.")
    return rows


def set_start(scene: Scene, thing_id: str, adopted: Adopted | None) -> None:
    """Let a solver begin from a state that was adopted (see evaluate.starts), or from rest again."""
    thing = thing_named(scene, thing_id)
    label = "Start from rest" if adopted is None else "Start from this frame"
    scene.apply(label, scene.doc.replace(thing.with_(adopted=adopted)))


def set_locked(scene: Scene, thing_id: str, channel: str, on: bool) -> None:
    """Lock a channel, so that no handle or field moves it, or free it."""
    thing = thing_named(scene, thing_id)
    locked = tuple(n for n in thing.locked if n != channel) + ((channel,) if on else ())
    word = "Lock" if on else "Unlock"
    scene.apply(f"{word} {thing.name} · {channel}", scene.doc.replace(thing.with_(locked=locked)))
