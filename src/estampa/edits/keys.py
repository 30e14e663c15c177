"""Edits of keys and curves."""

from ..errors import EstampaError
from ..scene.curves import SEGMENTS, TANGENTS, Curve, Key
from ..scene.limits import FURTHEST_KEY
from ..scene.scene import Scene
from .channels import channel_of, checked
from .names import thing_named


def set_key(
    scene: Scene, thing_id: str, channel: str, frame: float, value: float | None = None, segment: str | None = None
) -> None:
    """Put a key at a frame; without a value, at what the channel is there now. A key that is there keeps its shape."""
    thing = thing_named(scene, thing_id)
    declared = channel_of(thing, channel)
    if not declared.animates:
        raise EstampaError(f"{thing.name} · {channel}", "cannot be keyed.", "Only numbers and switches can.")
    value = checked(thing, channel, scene.values.at(thing, channel, frame) if value is None else value)
    _check_frame(thing, frame)
    _check_words(thing, channel, {"segment": segment})
    curve = thing.curve(channel)
    key = (curve.key_at(frame) if curve else None) or Key(frame=frame, value=0.0)
    key = key.with_(value=float(value), **({"segment": segment} if segment else {}))
    curve = curve.with_key(key) if curve else Curve(keys=(key,))
    scene.apply(
        f"Key {thing.name} · {channel} at {frame:g}",
        scene.doc.replace(thing.with_(values={**thing.values, channel: curve})),
    )


def _check_frame(thing, frame: float) -> None:
    if not abs(frame) <= FURTHEST_KEY:
        words = f"cannot have a key at frame {frame:g}."
        raise EstampaError(thing.name, words, f"Frames go to {FURTHEST_KEY:,}.")


def remove_key(scene: Scene, thing_id: str, channel: str, frame: float) -> None:
    """Remove a key; when it was the last, the channel keeps its value as a constant."""
    thing = thing_named(scene, thing_id)
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
    thing = thing_named(scene, thing_id)
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
    curve = thing_named(scene, thing_id).curve(channel)
    if curve is None or curve.key_at(frame) is None:
        return
    left, right = curve.handles([k.frame for k in curve.keys].index(frame))
    held = {"left": None, "right": None}
    if tangent in ("free", "broken"):
        held = {"left": left, "right": right}
    _change_key(scene, thing_id, channel, frame, tangent=tangent, **held)


def _change_key(scene, thing_id, channel, frame, **changes):
    thing = thing_named(scene, thing_id)
    _check_words(thing, channel, changes)
    curve = thing.curve(channel)
    key = curve.key_at(frame) if curve else None
    if key is not None:
        curve = curve.with_key(key.with_(**changes))
        set_curve(scene, thing_id, channel, curve, f"Change a key of {thing.name} · {channel}")


def _check_words(thing, channel, words: dict) -> None:
    """Raises EstampaError for a segment or tangent that there is not."""
    for name, known in (("segment", SEGMENTS), ("tangent", TANGENTS)):
        if words.get(name) is not None and words[name] not in known:
            cure = f"Choose one of {', '.join(known)}."
            raise EstampaError(f"{thing.name} · {channel}", f"has no {name} “{words[name]}”.", cure)


def set_extend(scene: Scene, thing_id: str, channel: str, before: str | None = None, after: str | None = None) -> None:
    """Choose what a curve does before and after its keys: hold, slope, cycle, mirror or accumulate."""
    thing = thing_named(scene, thing_id)
    curve = thing.curve(channel)
    if curve is not None:
        set_curve(scene, thing_id, channel, curve.with_extend(before, after), f"Extend {thing.name} · {channel}")
