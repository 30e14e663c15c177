"""Whether a document, or what an edit changed of it, keeps within the limits, and names what it may name."""

from collections.abc import Callable, Hashable, Iterable, Iterator

from ..errors import EstampaError
from ..kinds.channels import PARTS_OF_SUBJECTS, Channel
from . import limits
from .curves import Curve
from .document import Document, Formula, Link, Opaque, Thing
from .index import Changes


class Beyond(Exception):
    """(what has it, cause) something that no scene may hold; the words go on after the name of a scene or an edit."""


def check_document(doc: Document) -> None:
    """Raises Beyond for the first thing of a document that is beyond a limit."""
    check_time(doc)
    _check_count(doc)
    for thing in (*doc.things, *doc.prints):
        for part in (thing, *thing.stack, *thing.joints):
            check_thing(part)
            check_references(doc, part)
    check_chains(doc)


def refuse_edit(label: str, before: Document, after: Document, changes: Changes, reads_changed: bool) -> None:
    """Raises EstampaError when an edit makes something beyond a limit. reads_changed -- whether other things or
    channels may be named than before. Only what changed is looked at."""
    try:
        if (before.start, before.end, before.frame_rate, before.run_up, before.loop) != (
            after.start, after.end, after.frame_rate, after.run_up, after.loop,
        ):  # fmt: skip
            check_time(after)
        if reads_changed:
            _check_count(after)
        fresh = list(changed_things(before, changes))
        for thing in fresh:
            check_thing(thing)
            check_references(after, thing)
        rows = [t for t in fresh if _names_others(t)] if reads_changed else []
        if any(after.index.named.get(t.id) for t in rows):  # it stands within a row
            check_chains(after)
        elif rows:  # or begins one
            check_chains(after, rows)
    except Beyond as err:
        words = f"would make a scene that {err}."
        raise EstampaError(f"“{label}”", words, "It was not done; the scene is as it was.") from None


def changed_things(before: Document, changes: Changes) -> Iterator[Thing]:
    """Things and their parts that are other objects than they were."""
    for thing in changes.after:
        then = before.find(thing.id)
        parts = set() if then is None else {id(p) for p in (*then.stack, *then.joints)}
        yield thing
        yield from (p for p in (*thing.stack, *thing.joints) if id(p) not in parts)


def _names_others(thing: Thing) -> bool:
    """Whether a thing stands in a row with others: it rides on one, or one of its channels reads another."""
    rows = (v for n, v in thing.values.items() if n in ("parent", "other") or isinstance(v, (Link, Formula)))
    return any(v is not None for v in rows)


# -- one by one ----------------------------------------------------------------------------------------------
def check_time(doc: Document) -> None:
    """Raises Beyond when the frames of a document are too many, too far off, or too slow."""
    _at_most(doc.end - doc.start + 1, limits.MOST_FRAMES, "frames")
    for name, frame in (("first", doc.start), ("last", doc.end)):
        far = limits.FURTHEST_FRAME
        _need(abs(frame) <= far, f"has its {name} frame at {frame:,}; {far:,} is the furthest")
    rate, slow, fast = doc.frame_rate, limits.SLOWEST, limits.FASTEST
    _need(slow <= rate <= fast, f"has {rate:g} frames a second; {slow:g} to {fast:,g} can be kept")
    _at_most(doc.run_up, limits.MOST_RUN_UP, "frames of run-up")
    if doc.loop is not None:
        first, last = doc.loop
        _at_most(last - first, limits.MOST_FRAMES, "frames in its loop")
        far = max(abs(first), abs(last))
        _need(far <= limits.FURTHEST_FRAME, f"has a loop that reaches frame {far:,}")


def _check_count(doc: Document) -> None:
    _at_most(len(doc.index.entries), limits.MOST_THINGS, "things")


def check_thing(thing: Thing) -> None:
    """Raises Beyond when a thing by itself is beyond a limit."""
    named = thing.name if len(thing.name) <= 60 else f"{thing.name[:60]}…"
    _at_most(len(thing.name), limits.LONGEST_NAME, "letters in the name of", named)
    for words, held, most in (
        ("joints in", thing.joints, limits.MOST_JOINTS), ("points in", thing.spots, limits.MOST_SPOTS),
        ("layers on", thing.stack, limits.MOST_PARTS), ("maps on", thing.maps, limits.MOST_PARTS),
        ("morph targets on", thing.targets, limits.MOST_PARTS), ("clips on", thing.clips, limits.MOST_PARTS),
    ):  # fmt: skip
        if held:
            _at_most(len(held), most, words, named)
    for row in thing.spots:
        _need(max(map(abs, row), default=0) <= limits.FAR, f"has a point too far off in {named}")
    if thing.rest is not None:
        far = max(map(abs, (*thing.rest.place, *thing.rest.tip, *thing.rest.stretch)))
        _need(far <= limits.FAR, f"has a rest too far off in {named}")
    for clip in thing.clips:
        _at_most(clip.last - clip.first + 1, limits.MOST_FRAMES, "frames in the clip", clip.name, "of", named)
        far = max(abs(clip.first), abs(clip.last))
        _need(far <= limits.FURTHEST_KEY, f"has a clip too far off ({clip.name} of {named})")
        for kept in clip.values or ():
            _check_value(kept.value, named, "·", kept.channel, "in its clip", clip.name)
    for kept in thing.before:
        _check_value(kept.value, named, "·", kept.channel, "before its bake")
    channels = thing.declared.channels if thing.declared else {}
    for name, value in thing.values.items():
        channel = channels.get(name)
        if channel is not None:
            _check_value(value, named, "·", channel.label.lower())


def _check_value(value, *where: str) -> None:
    if value is None or isinstance(value, (bool, Opaque, Link, Formula)):
        return
    if isinstance(value, str):
        _at_most(len(value), limits.LONGEST_TEXT, "letters in", *where)
    elif isinstance(value, Curve):
        _at_most(len(value.keys), limits.MOST_KEYS, "keys on", *where)
        frame, number = value.furthest
        if frame > limits.FURTHEST_KEY or number > limits.LARGEST:
            raise Beyond(f"has a key too far off on {' '.join(where)}")
    elif not -limits.LARGEST <= value <= limits.LARGEST:
        # a Python whole number may be too large for any other kind of number, so it is compared as it is
        raise Beyond(f"has a number too large in {' '.join(where)}")


# -- what is named -------------------------------------------------------------------------------------------
def fits_reference(channel: Channel, held: Thing) -> bool:
    """Whether a channel that names a thing may name this one."""
    declared = held.declared
    if declared is None:  # of a newer version; it does nothing here
        return True
    return channel.may_name(declared)


def check_references(doc: Document, thing: Thing) -> None:
    """Raises Beyond when a channel of a thing names one of another kind, or reads a channel that is not there."""
    channels = thing.declared.channels if thing.declared else {}
    for name, value in thing.values.items():
        channel = channels.get(name)
        if not isinstance(value, str) or channel is None or channel.type != "ref" or channel.to in PARTS_OF_SUBJECTS:
            continue
        held = doc.find(value)
        if held is None:
            continue  # what is gone names nothing
        where = f"{thing.name} · {channel.label.lower()}"
        _need(fits_reference(channel, held), f"has {where} naming {held.name}, which is a {held.kind}")
        owner = doc.owner(thing.id)
        if channel.to == "joint" and owner is not None:
            same = doc.owner(held.id) is owner
            _need(same, f"has {where} naming a joint of another skeleton ({held.name})")
    for name, source in thing.sources():
        held = doc.find(source.thing)
        if held is None or held.declared is None:
            continue
        found = held.declared.channels.get(source.channel)
        words = f"has {thing.name} · {name} reading a channel “{source.channel}” that {held.name} has not"
        _need(found is not None and found.type not in ("ref", "text"), words)


# -- what reads what -----------------------------------------------------------------------------------------
def check_chains(doc: Document, begun: list[Thing] | None = None) -> None:
    """Raises Beyond when something rides on itself, reads itself, or stands below too many others. begun -- the things
    that rows begin with, where only these are looked at."""
    find = doc.find
    rows = [t for t, _ in doc.everything()] if begun is None else begun
    for channel, verb in (("parent", "riding on"), ("other", "combined with")):

        def onward(at: str, channel=channel):
            thing = find(at)
            if thing.declared is None or thing.declared.family == "joint" or channel not in thing.declared.channels:
                return ()  # joints among one another are looked at with their skeleton
            value = thing.values.get(channel)
            return (value,) if find(value) is not None else ()

        names = lambda ids: [find(i).name for i in ids]
        starts = [t.id for t in rows if t.values.get(channel)]
        _check_depth(starts, onward, lambda r, v=verb: f"has things {v} one another in a ring: {' → '.join(r)}",
                     f"has more than {limits.MOST_DEEP} things {verb} one another", names)  # fmt: skip

    def reads(node: tuple[str, str]) -> list[tuple[str, str]]:
        thing = find(node[0])
        sources = [s for name, s in thing.sources() if name == node[1]] if thing is not None else []
        read = ((s.thing, s.channel, find(s.thing)) for s in sources)
        return [(i, n) for i, n, t in read if t is not None and isinstance(t.values.get(n), (Link, Formula))]

    names = lambda nodes: [f"{find(t).name} · {find(t).declared.channels[n].label.lower()}" for t, n in nodes]
    starts = [(t.id, name) for t in rows for name in dict.fromkeys(n for n, _ in t.sources())]
    _check_depth(starts, reads, lambda r: f"has channels that read one another in a ring: {' → '.join(r)}",
                 f"has more than {limits.MOST_DEEP} channels that read one another in a row", names)  # fmt: skip


def _check_depth(starts: Iterable, onward: Callable, in_a_ring: Callable, too_deep: str, names: Callable) -> None:
    deep, ring = depth(starts, onward)
    if ring:
        raise Beyond(in_a_ring(names(ring)))
    _need(deep <= limits.MOST_DEEP, too_deep)


def depth(starts: Iterable[Hashable], onward: Callable[[Hashable], Iterable]) -> tuple[int, list]:
    """(how many nodes stand in a row at the most, a ring of nodes with its first again at the end, or none). Each node
    and each way between two is looked at once."""
    found: dict = {}  # node -> how many stand in a row from it on; 0 while it is on the trail
    for start in starts:
        if start in found:
            continue
        trail, ways, found[start] = [start], [iter(onward(start))], 0
        deepest = [0]
        while trail:
            following = next(ways[-1], None)
            if following is None:
                at, below = trail.pop(), deepest.pop()
                ways.pop()
                found[at] = below + 1
                if deepest:
                    deepest[-1] = max(deepest[-1], below + 1)
                continue
            known = found.get(following)
            if known == 0:
                return 0, [*trail[trail.index(following) :], following]
            if known is not None:
                deepest[-1] = max(deepest[-1], known)
            else:
                found[following] = 0
                trail.append(following)
                ways.append(iter(onward(following)))
                deepest.append(0)
    return max(found.values(), default=0), []


def _at_most(count: int, most: int, *words: str) -> None:
    if count > most:
        raise Beyond(f"has {count:,} {' '.join(words)}; {most:,} are the most")


def _need(ok: bool, words: str) -> None:
    if not ok:
        raise Beyond(words)
