"""Edits of channels: values, links, formulas."""

import numpy as np

from ..errors import EstampaError, shortened
from ..formula import Refused, read, refusal
from ..kinds.channels import Channel
from ..scene.curves import Curve, Key
from ..scene.document import Document, Formula, Link, Source, Thing, check_value
from ..scene.scene import Scene
from ..scene.values import Values, ring_of
from .names import thing_named


def channel_of(thing: Thing, name: str) -> Channel:
    """The declaration of a channel. Raises EstampaError where the thing has none of that name."""
    channels = thing.declared.channels if thing.declared else {}
    if name not in channels:
        raise EstampaError(thing.name, f"has no channel “{name}”.", f"Its channels: {', '.join(channels)}")
    return channels[name]


def checked(thing: Thing, channel_name: str, value):
    channel = channel_of(thing, channel_name)
    if channel.type == "number" and isinstance(value, (int, np.integer, np.floating)):
        value = float(value) if not isinstance(value, bool) else value
    try:
        check_value(channel, value)
    except ValueError as err:
        words = shortened(repr(value), 60)
        cure = f"Its words are {', '.join(w for w, _ in channel.choices)}." if channel.choices else ""
        raise EstampaError(f"{thing.name} · {channel.label}", f"cannot be {words}.", cure, str(err)) from None
    if channel.check is not None:
        try:
            channel.check(value)
        except EstampaError as err:
            raise EstampaError(f"{thing.name} · {channel.label}", err.cause, err.cure, err.detail) from None
    return channel.clamp(value) if channel.type in ("number", "whole") else value


def checked_values(kind: str, name: str, values: dict) -> dict:
    """Values of a thing that is to be made; raises EstampaError for a channel or a value that it cannot have."""
    plain = Thing(id="new", kind=kind, name=name)  # no id is drawn for it
    computed = lambda v: isinstance(v, (Curve, Link, Formula))
    return {n: v if computed(v) else checked(plain, n, v) for n, v in values.items()}


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
    thing = thing_named(scene, thing_id)
    new = {n: v for n, v in thing.values.items()}
    for name, value in values.items():
        if name in thing.locked:
            continue
        value, held = checked(thing, name, value), thing.values.get(name)
        if isinstance(held, Curve) and frame is not None:
            old = held.key_at(frame)
            new[name] = held.with_key(old.with_(value=float(value)) if old else Key(frame=frame, value=float(value)))
        elif isinstance(held, (Curve, Link, Formula)):
            words = "keyed" if isinstance(held, Curve) else "computed from other channels"
            raise EstampaError(
                f"{thing.name} · {thing.declared.channels[name].label}",
                f"is {words}.",
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
    thing = thing_named(scene, thing_id)
    declared = channel_of(thing, channel)
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
    thing, source = thing_named(scene, thing_id), thing_named(scene, to_thing)
    mine = channel_of(thing, channel)
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
    thing = thing_named(scene, thing_id)
    held = thing.values.get(channel)
    sources = dict(held.inputs) if isinstance(held, Formula) and inputs is None else {}
    sources |= {letter: Source(thing=t, channel=c) for letter, (t, c) in (inputs or {}).items()}
    try:
        read(text, tuple(sources))
    except Refused as err:
        raise refusal(err, f"{thing.name} · {channel_of(thing, channel).label}") from None
    set_computed(scene, thing_id, channel, Formula(formula=text.strip(), inputs=sources))


def reset_value(scene: Scene, thing_id: str, channel: str) -> None:
    """Put a channel back to its declared default; keys, links and formulas on it go."""
    thing = thing_named(scene, thing_id)
    if channel in thing.values:
        values = {n: v for n, v in thing.values.items() if n != channel}
        scene.apply(f"Reset {thing.name} · {channel}", scene.doc.replace(thing.with_(values=values)))
