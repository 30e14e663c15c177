"""The edits of a scene. The window, the command line and scripts all use these, so all can be undone."""

import numpy as np

from ..errors import EstampaError
from ..geometry.mesh import Mesh
from ..kinds.registry import kind_of, layers_for
from .curves import Curve, Key
from .document import (
    Adopted,
    Document,
    Formula,
    Frozen,
    Link,
    Material,
    MeshRef,
    Source,
    Target,
    Thing,
    WeightMap,
    check_value,
    new_id,
)
from .formula import Refused, read, refusal
from .scene import Scene
from .values import Values, ring_of


def unique_name(doc: Document, wanted: str) -> str:
    return free_name({thing.name for thing, _ in doc.everything()}, wanted)


def free_name(taken: set[str], wanted: str) -> str:
    """The name itself, or with the first number from 2 on that is free."""
    name, i = wanted, 2
    while name in taken:
        name, i = f"{wanted} {i}", i + 1
    return name


class Names:
    """Gives names that nothing in a document has yet."""

    def __init__(self, doc: Document):
        self._taken, self._next = {t.name for t, _ in doc.everything()}, {}

    def numbered(self, base: str) -> str:
        """The base with the next free number."""
        i = self._next.get(base, 1)
        while f"{base} {i}" in self._taken:
            i += 1
        self._next[base] = i + 1
        self._taken.add(f"{base} {i}")
        return f"{base} {i}"

    def plain(self, name: str) -> str:
        """The name itself, or with a number when it is taken."""
        if name in self._taken:
            return self.numbered(name)
        self._taken.add(name)
        return name


def _thing(scene: Scene, thing_id: str) -> Thing:
    thing = scene.doc.find(thing_id)
    if thing is None:
        raise EstampaError("The edit", "names a thing that is not in the scene.", "Select another one.", thing_id)
    return thing


def _checked(thing: Thing, channel_name: str, value):
    declared = kind_of(thing.kind)
    channel = declared.channels.get(channel_name) if declared else None
    if channel is None:
        raise EstampaError(
            thing.name,
            f"has no channel “{channel_name}”.",
            "Its channels: " + ", ".join(declared.channels if declared else []),
        )
    if channel.type == "number" and isinstance(value, (int, np.integer, np.floating)):
        value = float(value) if not isinstance(value, bool) else value
    try:
        check_value(channel, value)
    except ValueError as err:
        raise EstampaError(f"{thing.name} · {channel.label}", f"cannot be {value!r}.", "", str(err)) from None
    return channel.clamp(value) if channel.type in ("number", "whole") else value


# -- things ------------------------------------------------------------------------------------------------
def add_mesh(scene: Scene, mesh: Mesh, name: str, source: str = "") -> Thing:
    """Add a subject with a mesh, in metres; `source` is the name of the file that it came from."""
    return add_thing(scene, "subject", name=name, mesh=mesh_ref(scene, mesh, source))


def split(scene: Scene, subject_id: str) -> list[Thing]:
    """Make each island of a subject one of its own, the largest first; its maps are taken along. Raises EstampaError
    when it is one piece, or has layers, which are of the whole."""
    subject = _thing(scene, subject_id)
    mesh = scene.mesh(subject.mesh)
    if mesh.island_count < 2:
        raise EstampaError(subject.name, "is one island, so there is nothing to split.", "Split what has loose parts.")
    if subject.stack:
        raise EstampaError(subject.name, "has layers, which are of the whole of it.", "Split it before it gets layers.")
    islands, found, names = mesh.islands, [], Names(scene.doc)
    size = [float(np.prod(np.ptp(mesh.points[islands == i], axis=0) + 1e-9)) for i in range(mesh.island_count)]
    for island in np.argsort(size, kind="stable")[::-1]:
        own = islands == island
        maps = [m.with_(id=new_id(), weights=scene.arrays.put(scene.arrays.get(m.weights)[own])) for m in subject.maps]
        ref = mesh_ref(scene, mesh.only(own), subject.mesh.source)
        name = names.numbered(subject.name)
        found.append(Thing(kind="subject", name=name, values=subject.values, mesh=ref, maps=tuple(maps)))
    things = [t for t in scene.doc.things]
    place = things.index(subject)
    scene.apply(f"Split {subject.name}", scene.doc.with_(things=(*things[:place], *found, *things[place + 1 :])))
    return found


def mesh_ref(scene: Scene, mesh: Mesh, source: str = "") -> MeshRef:
    """Put the arrays of a mesh into the scene; returns what names them."""
    put = scene.arrays.put
    ref = MeshRef(
        points=put(mesh.points),
        face_counts=put(mesh.face_counts),
        face_indices=put(mesh.face_indices),
        uv=put(mesh.uv) if mesh.uv is not None else None,
        source=source,
        materials=tuple(Material(name=n, colour=tuple(c)) for n, c in mesh.materials),
        face_materials=put(mesh.face_materials) if mesh.face_materials is not None else None,
        corners=tuple((name, put(values)) for name, values in sorted(mesh.corners.items())),
    )
    scene.know_mesh(ref, mesh)
    return ref


def add_thing(
    scene: Scene,
    kind: str,
    name: str | None = None,
    values: dict | None = None,
    mesh: MeshRef | None = None,
    spots: tuple = (),
) -> Thing:
    """Add a subject, grip, zone, path, camera, copies, force or print."""
    declared = _declared(kind)
    name = unique_name(scene.doc, name or declared.title)
    thing = Thing(kind=kind, name=name, values=values or {}, mesh=mesh, spots=tuple(map(tuple, spots)))
    where = "prints" if declared.family == "print" else "things"
    doc = scene.doc.with_(**{where: (*getattr(scene.doc, where), thing)})
    scene.apply(f"Add {thing.name}", doc)
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
    same step of the history, on the layer's channel `grip`."""
    declared = _declared(kind)
    subject = _thing(scene, subject_id)
    if declared not in layers_for(subject.kind) or subject.kind not in ("subject", "skeleton"):
        moved = "the joints of a skeleton" if declared.moves == "joints" else "the points of a subject"
        raise EstampaError(declared.title, f"moves {moved}, so it cannot go on {subject.name}.", "Select another one.")
    doc, values = scene.doc, dict(values or {})
    layer_name = unique_name(doc, name or declared.title)
    if grip is not None:
        holder = Thing(kind="grip", name=unique_name(doc, f"{layer_name} grip"), values=grip)
        doc, values["grip"] = doc.with_(things=(*doc.things, holder)), holder.id
    if getattr(declared, "ensemble", "") and not values.get("together"):
        doc, values["together"] = _ensemble(doc, declared.ensemble)
    layer = Thing(kind=kind, name=layer_name, values=values)
    scene.apply(f"Add {layer.name}", doc.replace(subject.with_(stack=(*subject.stack, layer))))
    return layer


def _ensemble(doc: Document, kind: str) -> tuple[Document, str]:
    """(the document, the id of the first ensemble of a kind); it is made when there is none."""
    found = next((t for t in doc.things if t.kind == kind), None)
    if found is None:
        found = Thing(kind=kind, name=unique_name(doc, _declared(kind).title))
        doc = doc.with_(things=(*doc.things, found))
    return doc, found.id


def _declared(kind: str):
    declared = kind_of(kind)
    if declared is None:
        raise EstampaError(f"“{kind}”", "is no kind of thing that this version knows.", "")
    return declared


def remove(scene: Scene, thing_id: str) -> None:
    """Remove a thing. Channels that name it are cleared, and those that read its channels keep what they are worth
    at the first frame, in the same step. What hangs on a joint needs `joints.remove_joint`, which keeps it in place."""
    thing = _thing(scene, thing_id)
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
    thing, name = _thing(scene, thing_id), name.strip()
    if name and name != thing.name:
        scene.apply(f"Rename {thing.name}", scene.doc.replace(thing.with_(name=unique_name(scene.doc, name))))


def set_on(scene: Scene, thing_id: str, on: bool) -> None:
    """Switch a thing on or off."""
    thing = _thing(scene, thing_id)
    scene.apply(f"Switch {thing.name} {'on' if on else 'off'}", scene.doc.replace(thing.with_(on=on)))


def duplicate(scene: Scene, thing_id: str) -> Thing:
    """Copy a thing with all that is its own. A joint takes along what hangs on it, and hangs on the same joint."""
    thing, owner, doc = _thing(scene, thing_id), scene.doc.owner(thing_id), scene.doc
    if owner is not None and thing in owner.joints:
        bones = scene.values.bones(owner)
        hung = [bones.joints[i] for i in bones.below(bones.where[thing_id])]
        ids, names = {j.id: new_id() for j in hung}, Names(doc)
        copies = [_with_ids(joint, ids).with_(name=names.plain(joint.name)) for joint in hung]
        copy = copies[0]
        doc = doc.replace(owner.with_(joints=(*owner.joints, *copies)))
    else:
        ids = {t.id: new_id() for t in (thing, *thing.stack, *thing.joints, *thing.clips)}
        copy = _with_ids(thing, ids).with_(name=unique_name(doc, thing.name))
        if owner is not None:
            i = owner.stack.index(thing) + 1
            doc = doc.replace(owner.with_(stack=(*owner.stack[:i], copy, *owner.stack[i:])))
        else:
            where = "prints" if thing in doc.prints else "things"
            doc = doc.with_(**{where: (*getattr(doc, where), copy)})
    scene.apply(f"Duplicate {thing.name}", doc)
    return copy


def _with_ids(value, ids: dict[str, str]):
    """A thing, or a part of one, with other ids wherever it names itself or a part of itself."""
    if isinstance(value, Frozen):
        parts = type(value).model_fields
        return value.with_(**{n: _with_ids(getattr(value, n), ids) for n in parts})
    if isinstance(value, dict):
        return {n: _with_ids(v, ids) for n, v in value.items()}
    if isinstance(value, (list, tuple)):
        return type(value)(_with_ids(v, ids) for v in value)
    return ids.get(value, value) if isinstance(value, str) else value


def move_layer(scene: Scene, layer_id: str, place: int) -> None:
    """Move a layer to a place in its own stack, 0 on top."""
    layer, owner = _thing(scene, layer_id), scene.doc.owner(layer_id)
    if owner is None or layer not in owner.stack:
        raise EstampaError(layer.name, "stands in no stack, so it has no order.", "Select a layer.")
    rest = [l for l in owner.stack if l.id != layer_id]
    rest.insert(max(0, min(place, len(rest))), layer)
    if tuple(rest) != owner.stack:
        scene.apply(f"Move {layer.name}", scene.doc.replace(owner.with_(stack=tuple(rest))))


def set_spots(scene: Scene, thing_id: str, spots, label: str, merge: str | None = None) -> None:
    """Set a path's points (x, y, z in metres) or the places of copies made by hand (x, y, z, turn in rad, size)."""
    thing = _thing(scene, thing_id)
    rows = tuple(tuple(float(x) for x in spot) for spot in spots)
    if not all(np.isfinite(spot).all() for spot in rows):
        raise EstampaError(thing.name, "would have a point that is not a number.", "Undo, and move it again.")
    scene.apply(label, scene.doc.replace(thing.with_(spots=rows)), merge)


def set_start(scene: Scene, thing_id: str, adopted: Adopted | None) -> None:
    """Let a solver begin from a state that was adopted (see evaluate.starts), or from rest again."""
    thing = _thing(scene, thing_id)
    label = "Start from rest" if adopted is None else "Start from this frame"
    scene.apply(label, scene.doc.replace(thing.with_(adopted=adopted)))


def set_locked(scene: Scene, thing_id: str, channel: str, on: bool) -> None:
    """Lock a channel, so that no handle or field moves it, or free it."""
    thing = _thing(scene, thing_id)
    locked = tuple(n for n in thing.locked if n != channel) + ((channel,) if on else ())
    word = "Lock" if on else "Unlock"
    scene.apply(f"{word} {thing.name} · {channel}", scene.doc.replace(thing.with_(locked=locked)))


def set_loop(scene: Scene, first: int | None, last: int | None = None) -> None:
    """Choose the loop range: its first frame, and the frame that equals it again. None forgets it."""
    loop = None
    if first is not None:
        loop = (int(first), int(last))
        if loop[1] <= loop[0]:
            raise EstampaError(
                "The loop range",
                f"would end at {loop[1]}, not after its start at {loop[0]}.",
                "Give the frame at which the first one comes again.",
            )
    if loop != scene.doc.loop:
        scene.apply("Choose the loop range", scene.doc.with_(loop=loop))


def set_range(
    scene: Scene,
    start: int | None = None,
    end: int | None = None,
    frame_rate: float | None = None,
    run_up: int | None = None,
) -> None:
    """Set the first and last frame, the frame rate, or how many frames are solved before the first."""
    doc = scene.doc
    before = doc.run_up if run_up is None else int(run_up)
    if not 0 <= before <= 10_000:
        raise EstampaError("The run-up", f"cannot be {before} frames.", "Give 0 to 10,000.")
    start, end = doc.start if start is None else int(start), doc.end if end is None else int(end)
    rate = doc.frame_rate if frame_rate is None else float(frame_rate)
    if end < start:
        raise EstampaError(
            "The frame range",
            f"would end at {end}, before its start at {start}.",
            "Give an end that is not before the start.",
        )
    if not 0 < rate <= 1000:
        raise EstampaError(
            "The frame rate", f"cannot be {rate:g}.", "Give a rate above 0 and up to 1000 frames a second."
        )
    scene.apply("Change the frame range", doc.with_(start=start, end=end, frame_rate=rate, run_up=before))


# -- channels ----------------------------------------------------------------------------------------------
def set_value(
    scene: Scene, thing_id: str, channel: str, value, frame: float | None = None, merge: str | None = None
) -> None:
    """Set a channel. A keyed channel gets a key at `frame`, and is left alone without one."""
    set_values(scene, thing_id, {channel: value}, frame, merge)


def set_values(
    scene: Scene,
    thing_id: str,
    values: dict,
    frame: float | None = None,
    merge: str | None = None,
    label: str | None = None,
    auto_key: bool = False,
) -> None:
    """Set channels. A keyed one gets a key at `frame`; with `auto_key` a plain one that animates becomes keyed there.
    Locked channels are left alone."""
    thing = _thing(scene, thing_id)
    new = {n: v for n, v in thing.values.items()}
    for name, value in values.items():
        if name in thing.locked:
            continue
        value, held = _checked(thing, name, value), thing.values.get(name)
        if isinstance(held, Curve) and frame is not None:
            old = held.key_at(frame)
            new[name] = held.with_key(old.with_(value=float(value)) if old else Key(frame=frame, value=float(value)))
        elif isinstance(held, (Curve, Link, Formula)):
            told = "keyed" if isinstance(held, Curve) else "computed from other channels"
            raise EstampaError(
                f"{thing.name} · {thing.declared.channels[name].label}",
                f"is {told}.",
                "Clear that first (the arrow beside it), or change what it reads.",
            )
        elif auto_key and frame is not None and thing.declared.channels[name].animates:
            new[name] = Curve(keys=(Key(frame=frame, value=float(value)),))
        else:
            new[name] = value
    changed = thing.with_(values=new)
    _refuse_rings(scene.doc.replace(changed), changed, [n for n in values if n in ("parent", "other")])
    if new != thing.values:
        names = ", ".join(thing.declared.channels[n].label.lower() for n in list(values)[:3])
        scene.apply(label or f"Change {thing.name} · {names}", scene.doc.replace(changed), merge)


def _refuse_rings(doc: Document, thing: Thing, channels) -> None:
    for name in channels:
        ring = ring_of(doc, thing.id, name)
        if ring:
            raise EstampaError(
                f"{thing.name} · {thing.declared.channels[name].label}",
                f"would read itself in a ring: {' → '.join(ring)}.",
                "Read another channel, or clear one of these first.",
            )


def set_computed(scene: Scene, thing_id: str, channel: str, value: Link | Formula, merge: str | None = None) -> None:
    """Make a channel a link or a formula. Refused when it would read itself, or gives no number over the range."""
    thing = _thing(scene, thing_id)
    declared = thing.declared.channels[channel]
    where = f"{thing.name} · {declared.label}"
    if not declared.animates:
        raise EstampaError(where, "cannot be linked or computed.", "Only numbers and switches that animate can.")
    changed = thing.with_(values={**thing.values, channel: value})
    doc = scene.doc.replace(changed)
    _refuse_rings(doc, changed, [channel])
    values = Values(doc)
    for frame in np.unique(np.linspace(doc.start, doc.end, 25).round()):
        values.at(changed, channel, frame)
    scene.apply(f"{'Link' if isinstance(value, Link) else 'Formula for'} {thing.name} · {channel}", doc, merge)


def link(
    scene: Scene, thing_id: str, channel: str, to_thing: str, to_channel: str, span=None, to=None, hold: bool = True
) -> None:
    """Let a channel read another one. Channels of one unit are read as they are; between unlike units a range map is
    laid, from the usual range of the one to that of the other."""
    thing, source = _thing(scene, thing_id), _thing(scene, to_thing)
    mine = thing.declared.channels[channel]
    read_ = source.declared.channels.get(to_channel) if source.declared else None
    if read_ is None or read_.type not in ("number", "whole", "switch"):
        raise EstampaError(f"{source.name} · {to_channel}", "cannot be read.", "Only numbers and switches can.")
    if span is None and mine.unit != read_.unit:
        span, to = read_.soft, mine.soft
    elif span is not None and to is None:
        to = mine.soft
    if span is not None and span[0] == span[1]:
        raise EstampaError(f"{thing.name} · {mine.label}", "needs two different values to read from.", "")
    value = Link(reads=Source(thing=to_thing, channel=to_channel), span=span, to=to, hold=hold)
    set_computed(scene, thing_id, channel, value)


def set_formula(
    scene: Scene, thing_id: str, channel: str, text: str, inputs: dict[str, tuple[str, str]] | None = None
) -> None:
    """Compute a channel by a formula, in the unit that it shows. inputs -- letter -> (thing id, channel)."""
    thing = _thing(scene, thing_id)
    held = thing.values.get(channel)
    sources = dict(held.inputs) if isinstance(held, Formula) and inputs is None else {}
    sources |= {letter: Source(thing=t, channel=c) for letter, (t, c) in (inputs or {}).items()}
    try:
        read(text, tuple(sources))
    except Refused as err:
        raise refusal(err, f"{thing.name} · {thing.declared.channels[channel].label}") from None
    set_computed(scene, thing_id, channel, Formula(formula=text.strip(), inputs=sources))


def reset_value(scene: Scene, thing_id: str, channel: str) -> None:
    """Put a channel back to its declared default; keys, links and formulas on it go."""
    thing = _thing(scene, thing_id)
    if channel in thing.values:
        values = {n: v for n, v in thing.values.items() if n != channel}
        scene.apply(f"Reset {thing.name} · {channel}", scene.doc.replace(thing.with_(values=values)))


def set_key(
    scene: Scene, thing_id: str, channel: str, frame: float, value: float | None = None, segment: str | None = None
) -> None:
    """Put a key at a frame; without a value, at what the channel is there now. A key that is there keeps its shape."""
    thing = _thing(scene, thing_id)
    value = _checked(thing, channel, scene.values.at(thing, channel, frame) if value is None else value)
    if not thing.declared.channels[channel].animates:
        raise EstampaError(f"{thing.name} · {channel}", "cannot be keyed.", "Only numbers and switches can.")
    curve = thing.curve(channel)
    key = (curve.key_at(frame) if curve else None) or Key(frame=frame, value=0.0)
    key = key.with_(value=float(value), **({"segment": segment} if segment else {}))
    curve = curve.with_key(key) if curve else Curve(keys=(key,))
    scene.apply(
        f"Key {thing.name} · {channel} at {frame:g}",
        scene.doc.replace(thing.with_(values={**thing.values, channel: curve})),
    )


def remove_key(scene: Scene, thing_id: str, channel: str, frame: float) -> None:
    """Remove a key; when it was the last, the channel keeps its value as a constant."""
    thing = _thing(scene, thing_id)
    curve = thing.curve(channel)
    left = curve.without(frame) if curve else None
    value = left if left else scene.values.at(thing, channel, frame)
    scene.apply(
        f"Remove key of {thing.name} · {channel}",
        scene.doc.replace(thing.with_(values={**thing.values, channel: value})),
    )


def set_curve(scene: Scene, thing_id: str, channel: str, curve: Curve, label: str, merge: str | None = None) -> None:
    """Put another curve on a channel."""
    set_curves(scene, {(thing_id, channel): curve}, label, merge)


def set_curves(scene: Scene, curves: dict[tuple[str, str], Curve], label: str, merge: str | None = None) -> None:
    """Put other curves on channels, by (thing, channel), in one step of the history."""
    doc = scene.doc
    for (thing_id, channel), curve in curves.items():
        thing = doc.find(thing_id)
        if thing is None or not thing.declared.channels[channel].animates:
            raise EstampaError("A curve", f"cannot be put on “{channel}”.", "Only numbers and switches can be keyed.")
        if thing.values.get(channel) != curve:
            doc = doc.replace(thing.with_(values={**thing.values, channel: curve}))
    scene.apply(label, doc, merge)


def move_key(
    scene: Scene, thing_id: str, channel: str, frame: float, to_frame: float, merge: str | None = None
) -> None:
    """Move a key in time. A key that it lands on is replaced."""
    thing = _thing(scene, thing_id)
    curve = thing.curve(channel)
    if curve is None or curve.key_at(frame) is None or frame == to_frame:
        return
    moved = curve.moved([frame], to_frame - frame, 0.0)
    set_curve(scene, thing_id, channel, moved, f"Move key of {thing.name} · {channel}", merge)


def set_segment(scene: Scene, thing_id: str, channel: str, frame: float, segment: str) -> None:
    """Choose how a curve goes from a key to the next: curve, linear or step."""
    _change_key(scene, thing_id, channel, frame, segment=segment)


def set_tangent(scene: Scene, thing_id: str, channel: str, frame: float, tangent: str) -> None:
    """Choose a key's tangent: flat, smooth, free or broken. A free one begins where the curve was."""
    curve = _thing(scene, thing_id).curve(channel)
    if curve is None or curve.key_at(frame) is None:
        return
    left, right = curve.handles([k.frame for k in curve.keys].index(frame))
    held = {"left": None, "right": None}
    if tangent in ("free", "broken"):
        held = {"left": left, "right": right}
    _change_key(scene, thing_id, channel, frame, tangent=tangent, **held)


def _change_key(scene, thing_id, channel, frame, **changes):
    thing = _thing(scene, thing_id)
    curve = thing.curve(channel)
    key = curve.key_at(frame) if curve else None
    if key is not None:
        curve = curve.with_key(key.with_(**changes))
        set_curve(scene, thing_id, channel, curve, f"Change a key of {thing.name} · {channel}")


def set_extend(scene: Scene, thing_id: str, channel: str, before: str | None = None, after: str | None = None) -> None:
    """Choose what a curve does before and after its keys: hold, slope, cycle, mirror or accumulate."""
    thing = _thing(scene, thing_id)
    curve = thing.curve(channel)
    if curve is not None:
        set_curve(scene, thing_id, channel, curve.with_extend(before, after), f"Extend {thing.name} · {channel}")


# -- weight maps -------------------------------------------------------------------------------------------
def add_map(scene: Scene, subject_id: str, weights: np.ndarray, name: str | None = None) -> WeightMap:
    """Add a weight map, (n,) values in 0 to 1, one a vertex of the subject's own mesh."""
    subject = _thing(scene, subject_id)
    taken, name, i = {m.name for m in subject.maps}, name or "Map", 2
    base = name
    while name in taken:
        name, i = f"{base} {i}", i + 1
    made = WeightMap(name=name, weights=scene.arrays.put(_weights(scene, subject, weights)))
    scene.apply(f"Add map {name}", scene.doc.replace(subject.with_(maps=(*subject.maps, made))))
    return made


def set_map(
    scene: Scene, subject_id: str, map_id: str, weights: np.ndarray, label: str, merge: str | None = None
) -> None:
    """Put other weights, (n,) in 0 to 1, into a map."""
    subject = _thing(scene, subject_id)
    name = scene.arrays.put(_weights(scene, subject, weights))
    maps = tuple(m.with_(weights=name) if m.id == map_id else m for m in subject.maps)
    scene.apply(label, scene.doc.replace(subject.with_(maps=maps)), merge)


def rename_map(scene: Scene, subject_id: str, map_id: str, name: str) -> None:
    subject = _thing(scene, subject_id)
    maps = tuple(m.with_(name=name.strip() or m.name) if m.id == map_id else m for m in subject.maps)
    scene.apply("Rename map", scene.doc.replace(subject.with_(maps=maps)))


def remove_map(scene: Scene, subject_id: str, map_id: str) -> None:
    subject = _thing(scene, subject_id)
    stack = tuple(l.with_(values={n: v for n, v in l.values.items() if v != map_id}) for l in subject.stack)
    maps = tuple(m for m in subject.maps if m.id != map_id)
    scene.apply(f"Remove map {subject.map(map_id).name}", scene.doc.replace(subject.with_(maps=maps, stack=stack)))


def _weights(scene: Scene, subject: Thing, weights) -> np.ndarray:
    weights = np.clip(np.asarray(weights, np.float32), 0, 1)
    count = len(scene.arrays.get(subject.mesh.points))
    if weights.shape != (count,) or not np.isfinite(weights).all():
        raise EstampaError(
            f"A map of {subject.name}", f"needs {count} finite weights, one per vertex.", "", f"shape {weights.shape}"
        )
    return weights


# -- morph targets -----------------------------------------------------------------------------------------
def add_target(scene: Scene, subject_id: str, points: np.ndarray, name: str = "Target") -> Target:
    """Keep a shape, (n, 3) metres in the subject's own space, as a morph target."""
    subject = _thing(scene, subject_id)
    count = len(scene.arrays.get(subject.mesh.points))
    points = np.asarray(points, np.float64)
    if points.shape != (count, 3):
        raise EstampaError(
            f"The morph target “{name}”",
            f"has {len(points):,} vertices, and {subject.name} has {count:,}.",
            "A target needs the same vertices in the same order: export it from the same mesh.",
        )
    if not np.isfinite(points).all():
        raise EstampaError(f"The morph target “{name}”", "has points that are not numbers.", "Export it again.")
    taken, base, i = {t.name for t in subject.targets}, name, 2
    while name in taken:
        name, i = f"{base} {i}", i + 1
    target = Target(name=name, points=scene.arrays.put(points))
    scene.apply(f"Add target {name}", scene.doc.replace(subject.with_(targets=(*subject.targets, target))))
    return target


def remove_target(scene: Scene, subject_id: str, target_id: str) -> None:
    subject = _thing(scene, subject_id)
    stack = tuple(l.with_(values={n: v for n, v in l.values.items() if v != target_id}) for l in subject.stack)
    targets = tuple(t for t in subject.targets if t.id != target_id)
    scene.apply("Remove a target", scene.doc.replace(subject.with_(targets=targets, stack=stack)))
