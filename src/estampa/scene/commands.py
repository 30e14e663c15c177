"""The edits of a scene. The window, the command line and scripts all use these, so all can be undone."""

import numpy as np

from ..errors import EstampaError
from ..geometry.mesh import Mesh
from .channels import kind_of
from .curves import Curve, Key
from .document import Document, MeshRef, Thing, WeightMap, check_value, new_id
from .scene import Scene


def unique_name(doc: Document, wanted: str) -> str:
    taken = {thing.name for thing, _ in doc.everything()}
    name, i = wanted, 2
    while name in taken:
        name, i = f"{wanted} {i}", i + 1
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
    put = scene.arrays.put
    ref = MeshRef(
        points=put(mesh.points),
        face_counts=put(mesh.face_counts),
        face_indices=put(mesh.face_indices),
        uv=put(mesh.uv) if mesh.uv is not None else None,
        source=source,
    )
    scene.know_mesh(ref, mesh)
    return add_thing(scene, "subject", name=name, mesh=ref)


def add_thing(
    scene: Scene, kind: str, name: str | None = None, values: dict | None = None, mesh: MeshRef | None = None
) -> Thing:
    """Add a subject, grip, force or print."""
    declared = _declared(kind)
    thing = Thing(kind=kind, name=unique_name(scene.doc, name or declared.title), values=values or {}, mesh=mesh)
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
    """Add a layer at the foot of a subject's stack. With `grip`, a new grip of these values goes with it, in the
    same step of the history, on the layer's channel `grip`."""
    declared = _declared(kind)
    subject = _thing(scene, subject_id)
    doc, values = scene.doc, dict(values or {})
    layer_name = unique_name(doc, name or declared.title)
    if grip is not None:
        holder = Thing(kind="grip", name=unique_name(doc, f"{layer_name} grip"), values=grip)
        doc, values["grip"] = doc.with_(things=(*doc.things, holder)), holder.id
    layer = Thing(kind=kind, name=layer_name, values=values)
    scene.apply(f"Add {layer.name}", doc.replace(subject.with_(stack=(*subject.stack, layer))))
    return layer


def _declared(kind: str):
    declared = kind_of(kind)
    if declared is None:
        raise EstampaError(f"“{kind}”", "is no kind of thing that this version knows.", "")
    return declared


def remove(scene: Scene, thing_id: str) -> None:
    """Remove a thing; channels that read it are cleared in the same step."""
    thing = _thing(scene, thing_id)
    doc = scene.doc.remove(thing_id)
    for other, _ in list(doc.everything()):
        broken = [n for n, v in other.values.items() if v == thing_id]
        if broken:
            doc = doc.replace(other.with_(values={n: v for n, v in other.values.items() if n not in broken}))
    scene.apply(f"Remove {thing.name}", doc)


def rename(scene: Scene, thing_id: str, name: str) -> None:
    thing, name = _thing(scene, thing_id), name.strip()
    if name and name != thing.name:
        scene.apply(f"Rename {thing.name}", scene.doc.replace(thing.with_(name=unique_name(scene.doc, name))))


def set_on(scene: Scene, thing_id: str, on: bool) -> None:
    thing = _thing(scene, thing_id)
    scene.apply(f"Switch {thing.name} {'on' if on else 'off'}", scene.doc.replace(thing.with_(on=on)))


def duplicate(scene: Scene, thing_id: str) -> Thing:
    thing, owner = _thing(scene, thing_id), scene.doc.owner(thing_id)
    stack = tuple(l.with_(id=new_id()) for l in thing.stack)
    copy = thing.with_(id=new_id(), name=unique_name(scene.doc, thing.name), stack=stack)
    doc = scene.doc
    if owner:
        i = owner.stack.index(thing) + 1
        doc = doc.replace(owner.with_(stack=(*owner.stack[:i], copy, *owner.stack[i:])))
    else:
        where = "prints" if thing in doc.prints else "things"
        doc = doc.with_(**{where: (*getattr(doc, where), copy)})
    scene.apply(f"Duplicate {thing.name}", doc)
    return copy


def move_layer(scene: Scene, layer_id: str, place: int) -> None:
    """Move a layer to a place in its own stack, 0 on top."""
    layer, owner = _thing(scene, layer_id), scene.doc.owner(layer_id)
    rest = [l for l in owner.stack if l.id != layer_id]
    rest.insert(max(0, min(place, len(rest))), layer)
    if tuple(rest) != owner.stack:
        scene.apply(f"Move {layer.name}", scene.doc.replace(owner.with_(stack=tuple(rest))))


def set_range(scene: Scene, start: int | None = None, end: int | None = None, frame_rate: float | None = None) -> None:
    doc = scene.doc
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
    scene.apply("Change the frame range", doc.with_(start=start, end=end, frame_rate=rate))


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
) -> None:
    thing = _thing(scene, thing_id)
    new = dict(thing.values)
    for name, value in values.items():
        value, curve = _checked(thing, name, value), thing.curve(name)
        if curve and frame is not None:
            old = next((k for k in curve.keys if k.frame == frame), None)
            key = Key(frame=frame, value=float(value), segment=old.segment if old else "ease")
            new[name] = curve.with_key(key)
        elif curve:
            raise EstampaError(
                f"{thing.name} · {name}", "is keyed.", "Give the frame to set a key at, or clear its keys."
            )
        else:
            new[name] = value
    if new != thing.values:
        names = ", ".join(thing.declared.channels[n].label.lower() for n in list(values)[:3])
        scene.apply(label or f"Change {thing.name} · {names}", scene.doc.replace(thing.with_(values=new)), merge)


def reset_value(scene: Scene, thing_id: str, channel: str) -> None:
    thing = _thing(scene, thing_id)
    if channel in thing.values:
        values = {n: v for n, v in thing.values.items() if n != channel}
        scene.apply(f"Reset {thing.name} · {channel}", scene.doc.replace(thing.with_(values=values)))


def set_key(
    scene: Scene, thing_id: str, channel: str, frame: float, value: float | None = None, segment: str = "ease"
) -> None:
    """Put a key at a frame; without a value, at what the channel is there now."""
    thing = _thing(scene, thing_id)
    value = _checked(thing, channel, thing.at(channel, frame) if value is None else value)
    if not thing.declared.channels[channel].animates:
        raise EstampaError(f"{thing.name} · {channel}", "cannot be keyed.", "Only numbers and switches can.")
    key = Key(frame=frame, value=float(value), segment=segment)
    curve = thing.curve(channel)
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
    value = left if left else thing.at(channel, frame)
    scene.apply(
        f"Remove key of {thing.name} · {channel}",
        scene.doc.replace(thing.with_(values={**thing.values, channel: value})),
    )


def move_key(
    scene: Scene, thing_id: str, channel: str, frame: float, to_frame: float, merge: str | None = None
) -> None:
    """Move a key in time. A key that it lands on is replaced."""
    thing = _thing(scene, thing_id)
    curve = thing.curve(channel)
    key = next((k for k in curve.keys if k.frame == frame), None) if curve else None
    if key is None or frame == to_frame:
        return
    left = curve.without(frame)
    moved = key.model_copy(update={"frame": float(to_frame)})
    curve = left.with_key(moved) if left else Curve(keys=(moved,))
    scene.apply(
        f"Move key of {thing.name} · {channel}",
        scene.doc.replace(thing.with_(values={**thing.values, channel: curve})),
        merge,
    )


def set_segment(scene: Scene, thing_id: str, channel: str, frame: float, segment: str) -> None:
    """Choose how a curve goes from a key to the next: ease, linear or step."""
    thing = _thing(scene, thing_id)
    curve = thing.curve(channel)
    key = next((k for k in curve.keys if k.frame == frame), None) if curve else None
    if key is not None and key.segment != segment:
        set_key(scene, thing_id, channel, frame, key.value, segment)


# -- weight maps -------------------------------------------------------------------------------------------
def add_map(scene: Scene, subject_id: str, weights: np.ndarray, name: str | None = None) -> WeightMap:
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
