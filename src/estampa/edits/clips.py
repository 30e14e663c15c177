"""Clips: named ranges of keys of a skeleton's joints, or of the morph layers of a subject.

One clip is played: its keys are in place, on the channels. The others keep theirs until they are chosen.
"""

from ..errors import EstampaError
from ..scene.curves import Curve
from ..scene.document import Clip, Document, StashedValue, Thing
from ..scene.scene import Scene
from ..scene.skeleton import POSED
from .names import free_name, thing_named


def _channels(owner: Thing):
    """Yields (thing, channel) of everything that a clip of this owner holds."""
    for joint in owner.joints:
        yield from ((joint, name) for name in POSED)
    for layer in owner.stack:
        if layer.kind == "morph":
            yield from ((layer, name) for name, c in layer.declared.channels.items() if c.animates)


def values_of(owner: Thing) -> tuple[StashedValue, ...]:
    """What a clip of this owner would hold, as it is now."""
    return tuple(StashedValue(thing=t.id, channel=n, value=t.values[n]) for t, n in _channels(owner) if n in t.values)


def put_in(owner: Thing, kept: tuple[StashedValue, ...]) -> Thing:
    """The owner with the channels of its clips as they are in a clip; those that it does not have are cleared."""
    by_thing: dict[str, dict] = {}
    for k in kept:
        by_thing.setdefault(k.thing, {})[k.channel] = k.value
    held: dict[str, set] = {}
    for thing, name in _channels(owner):
        held.setdefault(thing.id, set()).add(name)

    def filled(thing):
        names = held.get(thing.id)
        if not names:
            return thing
        others = {n: v for n, v in thing.values.items() if n not in names}
        return thing.with_(values={**others, **by_thing.get(thing.id, {})})

    return owner.with_(joints=tuple(map(filled, owner.joints)), stack=tuple(map(filled, owner.stack)))


def put_away(owner: Thing) -> Thing:
    """The owner with the keys of the clip that is played kept in it, so that others can take their place."""
    kept = values_of(owner)
    return owner.with_(clips=tuple(c.with_(values=kept) if c.values is None else c for c in owner.clips))


def begun(
    owner: Thing, name: str, first: int, last: int, loops: bool = False, source: str = "", layers: tuple[str, ...] = ()
) -> Thing:
    """The owner with a new clip that is played, with the present keys in place; source and layers -- of a bake."""
    owner = put_away(owner)
    clip = Clip(name=_free(owner, name), first=first, last=last, loops=loops, source=source, layers=layers)
    return owner.with_(clips=(*owner.clips, clip))


def without(owner: Thing, name: str) -> Thing:
    """The owner without its clips of a name; the keys of one that is played stay in place."""
    return owner.with_(clips=tuple(c for c in owner.clips if c.name != name.strip()))


def named(owner: Thing, name: str) -> Clip | None:
    return next((c for c in owner.clips if c.name == name.strip()), None)


def _free(owner: Thing, wanted: str) -> str:
    return free_name({c.name for c in owner.clips}, wanted.strip() or "Clip")


def _clip(owner: Thing, clip_id: str) -> Clip:
    found = next((c for c in owner.clips if c.id == clip_id), None)
    if found is None:
        raise EstampaError(owner.name, "has no such clip.", "Choose another one.", clip_id)
    return found


def present(owner: Thing) -> Clip | None:
    """The clip whose keys are in place."""
    return next((c for c in owner.clips if c.values is None), None)


def new_clip(scene: Scene, owner_id: str, name: str, first: int, last: int, loops: bool = False) -> Clip:
    """Begin a clip with the present keys; the one that was played keeps its own. The last frame of one that loops is
    the frame that equals the first."""
    if last < first:
        raise EstampaError("The clip", f"would end at {last}, before its start at {first}.", "Give a later end.")
    owner = begun(thing_named(scene, owner_id), name, int(first), int(last), loops)
    scene.apply(f"New clip of {owner.name}", scene.doc.replace(owner))
    return owner.clips[-1]


def use_clip(scene: Scene, owner_id: str, clip_id: str) -> None:
    """Play another clip: its keys are put in place, those that were are kept in their own."""
    owner = thing_named(scene, owner_id)
    chosen = _clip(owner, clip_id)
    if chosen.values is None:
        return
    owner = put_in(put_away(owner), chosen.values)
    clips = tuple(c.with_(values=None) if c.id == clip_id else c for c in owner.clips)
    scene.apply(f"Play clip {chosen.name}", scene.doc.replace(owner.with_(clips=clips)))


def set_clip(scene: Scene, owner_id: str, clip_id: str, **changes) -> None:
    """Change a clip's name, first, last, loops or speed."""
    owner = thing_named(scene, owner_id)
    clip = _clip(owner, clip_id)
    if "name" in changes:
        others = owner.with_(clips=tuple(c for c in owner.clips if c.id != clip_id))
        changes["name"] = _free(others, changes["name"])
    changed = clip.with_(**changes)
    if changed.last < changed.first:
        raise EstampaError(clip.name, f"would end at {changed.last}, before its start.", "Give a later end.")
    if changed.speed == 0:
        raise EstampaError(clip.name, "would not move at a speed of 0.", "Give a speed; a negative one goes backwards.")
    clips = tuple(changed if c.id == clip_id else c for c in owner.clips)
    scene.apply(f"Change clip {clip.name}", scene.doc.replace(owner.with_(clips=clips)))


def remove_clip(scene: Scene, owner_id: str, clip_id: str) -> None:
    """Remove a clip. The keys of the one that is played stay in place."""
    owner = thing_named(scene, owner_id)
    clip = _clip(owner, clip_id)
    clips = tuple(c for c in owner.clips if c.id != clip_id)
    scene.apply(f"Remove clip {clip.name}", scene.doc.replace(owner.with_(clips=clips)))


def reverse_clip(scene: Scene, owner_id: str, clip_id: str) -> Clip:
    """A new clip with the keys of another one played backwards; it is not played yet."""
    owner = thing_named(scene, owner_id)
    clip = _clip(owner, clip_id)
    kept = values_of(owner) if clip.values is None else clip.values
    middle = clip.first + clip.last
    turned = tuple(k.with_(value=_backwards(k.value, middle)) for k in kept)
    made = Clip(
        name=_free(owner, f"{clip.name} backwards"), first=clip.first, last=clip.last, loops=clip.loops,
        speed=clip.speed, values=turned,
    )  # fmt: skip
    scene.apply(f"Reverse clip {clip.name}", scene.doc.replace(owner.with_(clips=(*owner.clips, made))))
    return made


def _backwards(value, middle):
    if not isinstance(value, Curve):
        return value
    flip = lambda h: None if h is None else (-h[0], h[1])
    keys, segments = [], [k.segment for k in value.keys]
    for i, k in reversed(list(enumerate(value.keys))):
        # a segment's shape is held by the key that begins it, which is the other one now
        segment = segments[i - 1] if i else "curve"
        keys.append(k.with_(frame=middle - k.frame, left=flip(k.right), right=flip(k.left), segment=segment))
    return Curve(keys=tuple(keys), before=value.after, after=value.before)


def twice_moved(owner: Thing) -> list[Thing]:
    """The layers that are on while the clip that is played already has what they do, baked."""
    clip = present(owner)
    return [] if clip is None else [l for l in owner.stack if l.on and l.id in clip.layers]


def switch_off_baked(scene: Scene, owner_id: str) -> None:
    """Switch off the layers whose motion the clip that is played already has."""
    owner = thing_named(scene, owner_id)
    off = {l.id for l in twice_moved(owner)}
    stack = tuple(l.with_(on=False) if l.id in off else l for l in owner.stack)
    scene.apply(f"Switch off what {owner.name} has baked", scene.doc.replace(owner.with_(stack=stack)))


def documents(doc: Document, owner: Thing) -> list[tuple[Clip, Document]]:
    """Each clip, and the document as it is when that clip is played."""
    found = []
    for clip in owner.clips:
        if clip.values is None:
            found.append((clip, doc))
        else:
            found.append((clip, doc.replace(put_in(put_away(owner), clip.values))))
    return found
