"""What channels are worth: constants, curves, links and formulas of one document, at frames and for copies.

Worked out on rows: k frames at once, and which copy each row is. Reads a document that does not change under it.
"""

from dataclasses import dataclass

import numpy as np

from ..errors import EstampaError
from ..formula import work_out
from ..geometry.place import Place
from ..geometry.pose import in_skeleton
from ..units import from_shown, to_shown
from .bones import Bones, hand_poses
from .curves import Curve
from .document import Document, Formula, Link, Opaque, Thing

MOST_REMEMBERED = 1_000_000  # computed numbers


@dataclass(frozen=True)
class Rows:
    """What is asked for at once: (k,) frames, and which of how many copies each row is."""

    frames: np.ndarray
    index: np.ndarray
    count: int = 1

    @classmethod
    def one(cls, frame: float) -> "Rows":
        return cls(np.array([float(frame)]), np.zeros(1))

    @classmethod
    def over(cls, frames) -> "Rows":
        frames = np.asarray(frames, float)
        return cls(frames, np.zeros(len(frames)))

    def __len__(self) -> int:
        return len(self.frames)


class Values:
    """Reads the channels of one document. Raises EstampaError when a link or formula gives no number."""

    def __init__(self, doc: Document):
        self.doc = doc
        self._by_id, self._owners = {}, {}
        for thing, owner in doc.everything():
            self._by_id[thing.id], self._owners[thing.id] = thing, owner
        self._bones: dict[str, Bones] = {}
        self.joint_place = self._joint_by_hand  # an evaluator puts its own here, which knows the layers
        self._open: list[tuple[str, str]] = []  # channels being worked out, to find rings
        self._computed_rows: dict[tuple, np.ndarray] = {}  # what links and formulas gave
        self._computed_size = 0
        self._constants: dict[tuple[str, str], np.ndarray] = {}
        self._travels: dict[tuple[str, str], tuple[int, np.ndarray]] = {}

    def find(self, thing_id: str | None) -> Thing | None:
        return self._by_id.get(thing_id) if isinstance(thing_id, str) else None

    def owner(self, thing_id: str) -> Thing | None:
        """The skeleton of a joint, or what has a layer in its stack."""
        return self._owners.get(thing_id)

    def bones(self, skeleton: Thing) -> Bones:
        """The joints of a skeleton as arrays; made once."""
        if skeleton.id not in self._bones:
            self._bones[skeleton.id] = Bones.of(skeleton)
        return self._bones[skeleton.id]

    # -- one channel ---------------------------------------------------------------------------------------
    def at(self, thing: Thing, name: str, frame: float):
        """The channel's value at a frame, within its hard range, of its own type."""
        channel = thing.declared.channels[name]
        value = thing.values.get(name, channel.default)
        if isinstance(value, Opaque):
            return channel.default
        if isinstance(value, (Curve, Link, Formula)):
            value = float(self.rows(thing, name, Rows.one(frame))[0])
            return {"whole": round, "switch": lambda v: v >= 0.5}.get(channel.type, float)(value)
        if channel.type == "number":  # a whole number from a file would have kernels compiled anew
            return float(channel.clamp(value))
        return channel.clamp(value) if channel.type == "whole" else value

    def rows(self, thing: Thing, name: str, rows: Rows) -> np.ndarray:
        """(k,) float64 values of a channel that animates, in its stored unit."""
        channel = thing.declared.channels[name]
        value = thing.values.get(name, channel.default)
        if isinstance(value, Opaque):
            value = channel.default
        if isinstance(value, Curve):
            result = value.at(rows.frames)
        elif isinstance(value, (Link, Formula)):
            result = self._computed(thing, name, channel, value, rows)
        else:
            result = np.full(len(rows), float(value))
        low, high = channel.hard
        return np.clip(result, low, high) if low is not None or high is not None else result

    def few(self, thing: Thing, name: str, rows: Rows) -> np.ndarray:
        """(k,) the same, or (1,) when all rows are alike."""
        value = thing.values.get(name)
        if isinstance(value, (Curve, Link, Formula)):
            found = self.rows(thing, name, rows)
            return found[:1] if len(found) > 1 and (found == found[0]).all() else found
        key = (thing.id, name)
        if key not in self._constants:
            self._constants[key] = self.rows(thing, name, Rows(rows.frames[:1], rows.index[:1], rows.count))
        return self._constants[key]

    def _computed(self, thing, name, channel, value, rows):
        here = (thing.id, name)
        # what was computed is remembered, or a row of channels that each read the one before would be worked out anew
        # for each of them, and twice as long for each where they read it twice
        key = (here, rows.frames.tobytes(), rows.index.tobytes(), rows.count)
        known = self._computed_rows.get(key)
        if known is not None:
            return known
        if here in self._open:
            ring = [*self._open[self._open.index(here) :], here]
            raise EstampaError(
                f"{thing.name} · {channel.label}",
                f"is read by itself in a ring: {' → '.join(self._words(t, n) for t, n in ring)}.",
                "Give one of these channels a plain value.",
            )
        self._open.append(here)
        try:
            if isinstance(value, Link):
                result = self._linked(thing, channel, value, rows)
            else:
                result = self._formula(thing, channel, value, rows)
        finally:
            self._open.pop()
        bad = ~np.isfinite(result)
        if bad.any():
            raise EstampaError(
                f"{thing.name} · {channel.label}",
                f"gives no number at frame {rows.frames[int(np.argmax(bad))]:g}.",
                "Look for a division by zero, a root or logarithm of a negative number, or a value too large.",
                getattr(value, "formula", ""),
            )
        if self._computed_size > MOST_REMEMBERED:
            self._computed_rows.clear()
            self._computed_size = 0
        result.flags.writeable = False
        self._computed_rows[key] = result
        self._computed_size += len(result)
        return result

    def _words(self, thing_id, name) -> str:
        thing = self.find(thing_id)
        return f"{thing.name} · {thing.declared.channels[name].label.lower()}" if thing else name

    def _source(self, thing, channel, source, rows) -> np.ndarray:
        held = self.find(source.thing)
        found = held.declared.channels.get(source.channel) if held is not None and held.declared else None
        if found is None or found.type not in ("number", "whole", "switch"):
            raise EstampaError(
                f"{thing.name} · {channel.label}",
                "reads a channel that is not there.",
                "Link it again, or give it a plain value.",
                f"{source.thing} · {source.channel}",
            )
        return self.rows(held, source.channel, rows)

    def _linked(self, thing, channel, link: Link, rows):
        x = self._source(thing, channel, link.reads, rows)
        if link.curve is not None:
            return link.curve.at(x)
        if link.span is None:
            return x
        (a, b), (c, d) = link.span, link.to
        t = (x - a) / (b - a)
        return c + (np.clip(t, 0, 1) if link.hold else t) * (d - c)

    def _formula(self, thing, channel, formula: Formula, rows):
        doc = self.doc
        first, last = doc.loop or (doc.start, doc.end + 1)
        names = {
            "t": rows.frames / doc.frame_rate,
            "frame": rows.frames,
            "i": rows.index,
            "n": float(rows.count),
            "loop": (rows.frames - first) / (last - first),
        }
        for letter, source in formula.inputs.items():
            x = self._source(thing, channel, source, rows)
            names[letter] = to_shown(x, self.find(source.thing).declared.channels[source.channel].unit)
        result = work_out(formula.formula, names, tuple(formula.inputs))
        return from_shown(np.broadcast_to(np.asarray(result, float), (len(rows),)), channel.unit)

    # -- what has gathered over time -------------------------------------------------------------------------
    def travel(self, thing: Thing, name: str, frame: float) -> float:
        """Integral of a channel over time since frame 0, in its unit x seconds (trapezoids over whole frames)."""
        return float(self.travels(thing, name, Rows.one(frame))[0])

    def travels(self, thing: Thing, name: str, rows: Rows) -> np.ndarray:
        """(k,) the same for rows."""
        value = thing.value(name)
        if isinstance(value, (Formula, Link)) and (rows.count > 1 or len(rows) > 1):
            # what is computed may differ from copy to copy, so each row has an integral of its own
            alone = [
                self._travelled(thing, name, Rows(rows.frames[k : k + 1], rows.index[k : k + 1], rows.count))
                for k in range(len(rows))
            ]
            return np.concatenate(alone)
        if isinstance(value, (Curve, Link, Formula)):
            return self._travelled(thing, name, rows)
        return self.rows(thing, name, rows) * rows.frames / self.doc.frame_rate

    def _travelled(self, thing, name, rows):
        first = min(0, int(np.floor(rows.frames.min())))
        last = max(0, int(np.ceil(rows.frames.max())) + 1)
        copy = float(rows.index[0])
        kept = self._travels.get((thing.id, name, copy))
        if kept is None or kept[0] > first or kept[0] + len(kept[1]) <= last:
            last = max(last, self.doc.end + 1)
            frames = np.arange(first, last + 1, dtype=float)
            value = self.rows(thing, name, Rows(frames, np.full(len(frames), copy), rows.count))
            total = np.concatenate([[0.0], np.cumsum(0.5 * (value[1:] + value[:-1]))])
            kept = self._travels[thing.id, name, copy] = (first, total - total[-first])
        first, total = kept
        place = np.floor(rows.frames).astype(int) - first
        part = rows.frames - np.floor(rows.frames)
        whole = Rows(np.floor(rows.frames), rows.index, rows.count)
        rest = np.zeros(len(rows))
        if part.any():
            rest = 0.5 * part * (self.rows(thing, name, whole) + self.rows(thing, name, rows))
        return (total[place] + rest) / self.doc.frame_rate

    # -- where things stand ----------------------------------------------------------------------------------
    def place(self, thing: Thing, rows: Rows) -> Place:
        """(k) places of a thing in the world, what it rides on counted in."""
        return self._place(thing, rows, ())

    def _place(self, thing, rows, below):
        if thing.id in below:
            names = " → ".join(self.find(t).name for t in (*below[below.index(thing.id) :], thing.id))
            raise EstampaError(thing.name, f"rides on itself: {names}.", "Clear “Rides on” of one of them.", thing.id)
        if thing.kind == "joint":
            return self.joint_place(thing, self.owner(thing.id), rows)
        own = {n: c for n, c in thing.declared.channels.items() if n in PLACE}
        if not any(n in thing.values for n in own) and not thing.values.get("parent"):
            return Place.still(1)
        place = Place.of({n: self.few(thing, n, rows) for n in own})
        parent = self.find(thing.constant("parent"))
        if parent is not None and parent.declared is not None and "parent" in parent.declared.channels:
            place = self._place(parent, rows, (*below, thing.id)) @ place
        return place

    def _joint_by_hand(self, joint, skeleton, rows):
        bones = self.bones(skeleton)
        matrices = in_skeleton(hand_poses(self, bones, rows), bones.parents, bones.order)[:, bones.where[joint.id]]
        return Place.of_matrices(self.place(skeleton, rows).spread(len(rows)).matrices @ matrices)


PLACE = ("x", "y", "z", "turn_x", "turn_y", "turn_z", "size")


def ring_of(doc: Document, thing_id: str, channel: str) -> list[str]:
    """Names of the channels (or of things riding on one another) that read one another in a ring through this one."""
    by_id = {t.id: t for t, _ in doc.everything()}

    def onward(node):
        thing, name = by_id.get(node[0]), node[1]
        if thing is None:
            return []
        value = thing.values.get(name)
        if name == "parent":
            return [(value, "parent")] if isinstance(value, str) else []
        if name == "other":
            return [(value, "other")] if isinstance(value, str) else []
        return [(s.thing, s.channel) for n, s in thing.sources() if n == name]

    start = (thing_id, channel)
    came, waiting = {start: None}, [start]
    while waiting:
        at = waiting.pop()
        for step in onward(at):
            if step == start:  # back along the way it came
                ring = [start]
                while at is not None:
                    ring.append(at)
                    at = came[at]
                return [f"{by_id[t].name} · {by_id[t].declared.channels[n].label.lower()}" for t, n in ring[::-1]]
            if step not in came:
                came[step] = at
                waiting.append(step)
    return []
