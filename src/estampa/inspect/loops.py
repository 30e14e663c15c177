"""Loops: how far a loop's end is from its start, and what closes it."""

from dataclasses import dataclass
from functools import cache

import numpy as np

from ..errors import EstampaError
from ..evaluate.arrange import line_of
from ..evaluate.evaluator import Evaluator
from ..geometry.paths import Sampled
from ..lazy import optimize
from ..scene.copies import only_in_copies
from ..scene.curves import Curve
from ..scene.document import Document, Thing
from ..scene.scene import Scene
from ..scene.values import Rows, Values
from ..units import format_value

MOST_JOINTS, LISTED = 400, 8  # joints whose seams are looked at, and that are listed
WHOLE = 1e-6  # rounds; nearer than this to a whole number is whole


@dataclass(frozen=True)
class Seam:
    """The difference between a loop's end and its start, for a subject, its copies, or a thing that only stands."""

    thing: str  # id
    name: str
    pose: float  # m, the largest distance of a vertex
    turn: float  # rad, between how it stands at both ends
    speed: float  # m/s, the largest difference of a vertex's velocity
    where: str  # words: where it is largest
    solved: bool = True

    @property
    def closed(self) -> bool:
        """Within a tenth of a millimetre and a millimetre a second, which no eye sees."""
        return self.solved and self.pose < 1e-4 and self.turn < 1e-4 and self.speed < 1e-3


def seams(evaluator: Evaluator, seen_from: Thing | None = None) -> list[Seam]:
    """The seam of each subject that is on, and of each set of copies; measured from a thing that may move."""
    found, hidden = [], only_in_copies(evaluator.doc)
    for thing in evaluator.doc.things:
        if not thing.on or thing.id in hidden or thing.declared is None:
            continue
        owner = evaluator.owner(thing)
        if owner.posed(thing, evaluator.doc.loop_range[0]) is not None:
            at = cache(lambda frame, owner=owner, thing=thing: owner.posed(thing, frame))
            whole = _seam(evaluator, thing, at, seen_from)
            found += [whole, *_parts(evaluator, owner, thing, at, seen_from, whole)]
    return found


def _parts(evaluator, owner, thing, at, seen_from, whole: Seam) -> list[Seam]:
    """Those of its parts that are the most open, where it does not close."""
    if whole.closed or not whole.solved:
        return []
    found = []
    for i, part in enumerate(owner.judged_parts(thing)[:MOST_JOINTS]):
        own = lambda f, i=i: (at(f)[0][i : i + 1], at(f)[1][i : i + 1], at(f)[2])
        found.append(_seam(evaluator, part, own, seen_from))
    return sorted((s for s in found if not s.closed), key=lambda s: -s.pose)[:LISTED]


def _seam(evaluator, thing, at, seen_from):
    first, last = evaluator.doc.loop_range

    def look(frame):
        points, axes, is_current = at(frame)
        if seen_from is not None:
            back = evaluator.values.place(seen_from, Rows.one(frame)).inverse()
            points, axes = back.apply(points[None])[0], back.axes @ axes
        return points, axes, is_current

    solved_motion = evaluator.owner(thing).is_solved(thing)
    # on whole frames where something is solved; else so close that a quick motion is not taken for a seam
    step = 1.0 if solved_motion else 1 / 128
    frames = [first, first + step, first + 2 * step, last - 2 * step, last - step, last]
    looked = [look(f) for f in frames]
    p = [l[0] for l in looked]
    if not len(p[0]):
        return Seam(thing.id, thing.name, 0.0, 0.0, 0.0, "no copies")
    gap = np.linalg.norm(p[5] - p[0], axis=1)
    # one-sided differences of second order: right for any parabola
    begin, end = (-3 * p[0] + 4 * p[1] - p[2]) / 2, (3 * p[5] - 4 * p[4] + p[3]) / 2
    jump = np.linalg.norm(begin - end, axis=1) * evaluator.doc.frame_rate / step
    if solved_motion:  # it is sampled too coarsely for that: what follows the end must be what follows the start
        following = look(last + 1)
        if following[2]:
            after = np.linalg.norm((following[0] - p[5]) - (p[1] - p[0]), axis=1) * evaluator.doc.frame_rate
            jump = np.minimum(jump, after)
    between = np.einsum("kji,kjl->kil", looked[0][1], looked[5][1])
    turn = np.arccos(np.clip((np.trace(between, axis1=1, axis2=2) - 1) / 2, -1, 1))
    worst = int(gap.argmax() if gap.max() > 1e-9 else jump.argmax())
    where = evaluator.owner(thing).point_name(thing, worst, len(p[0]), len(turn))
    solved = all(l[2] for l in looked)
    if not solved:
        return Seam(thing.id, thing.name, np.nan, np.nan, np.nan, "it is not solved there yet", False)
    return Seam(thing.id, thing.name, float(gap.max()), float(turn.max()), float(jump.max()), where, solved)


# -- what closes it ----------------------------------------------------------------------------------------
@dataclass(frozen=True)
class Offer:
    """One change that would close a part of the seam."""

    thing: str  # id; empty for the scene itself
    channel: str
    words: str
    value: object  # what the channel becomes

    def applied(self, doc: Document) -> Document:
        if not self.thing:
            return doc.with_(**{self.channel: self.value})
        thing = doc.find(self.thing)
        return doc.replace(thing.with_(values={**thing.values, self.channel: self.value}))


def offers(doc: Document, blend: int = 12, drop: bool = False) -> list[Offer]:
    """What would close the seams of a scene: noise made periodic, rates that go round a whole number of times, and
    keys blended over the last `blend` frames into the first (or dropped there, to land on the first pose)."""
    first, last = doc.loop_range
    seconds, values, found = (last - first) / doc.frame_rate, Values(doc), []
    solved = [l.name for t in doc.things if t.on for l in t.stack if l.on and getattr(l.declared, "memory", False)]
    if solved and not doc.run_up:
        words = f"Run-up: {last - first} frames solved before the first, so that {solved[0]} does not start from rest"
        found.append(Offer("", "run_up", words, min(last - first, 10_000)))
    for thing, _ in doc.everything():
        declared = thing.declared
        if declared is None or not thing.on or declared.family == "print":
            continue
        for name, channel in declared.channels.items():
            here, value = f"{thing.name} · {channel.label.lower()}", thing.value(name)
            slides = channel.along_path and not channel.accumulates
            if name == "loops" and value is False:
                found.append(Offer(thing.id, name, f"{here}: comes back to where it began", True))
            elif channel.cycles and isinstance(value, (int, float)):
                rounds = value * seconds
                if abs(rounds - round(rounds)) > WHOLE:
                    near = round(rounds) or int(np.copysign(1, rounds))
                    often = f"{abs(near)} round{'s' if abs(near) > 1 else ''}"
                    words = f"{here}: {value:.4g} becomes {near / seconds:.4g} Hz, {often} in the loop"
                    found.append(Offer(thing.id, name, words, near / seconds))
            elif isinstance(value, Curve) and channel.animates and not slides:
                closed = closed_curve(value, first, last, blend, drop)
                if closed is not None:
                    gap = format_value(abs(value.at(last) - value.at(first)), channel.unit, 3)
                    words = f"{here}: its last {min(blend, last - first)} frames go back to the first value (gap {gap})"
                    found.append(Offer(thing.id, name, words, closed))
            elif slides and isinstance(value, Curve):
                found += _slide_offer(doc, thing, here, value, first, last)
            elif channel.accumulates and channel.along_path:
                found += _path_offer(thing, name, here, value, seconds, values)
    return found


def _path_offer(thing, name, here, value, seconds, values):
    line = line_of(values.find(thing.constant("path")))
    if line is None or not value or not isinstance(value, (int, float)):
        return []
    rounds = value * seconds / line.length
    if abs(rounds - round(rounds)) < WHOLE:
        return []
    near = round(rounds) or int(np.copysign(1, rounds))
    speed = near * line.length / seconds
    return [Offer(thing.id, name, f"{here}: {value:.4g} becomes {speed:.4g} m/s, {abs(near)} times along", speed)]


def wave_length(line: Sampled) -> float | None:
    """Metres along a path after which its course comes again, moved on; None when it does not.

    Looked for by how well the path's sideways course agrees with itself moved along.
    """
    s = np.linspace(0, line.length, 600)
    points = line.at(s)[0]
    way = points[-1] - points[0]
    if np.linalg.norm(way) < 1e-6 * line.length:
        return None
    way = way / np.linalg.norm(way)
    aside = points - np.outer(points @ way, way)
    best, found, unlike = 0.02, None, False  # it must have been unlike itself before it is alike again
    for k in range(4, 400):
        a, b = aside[:-k], aside[k:]
        a, b = a - a.mean(axis=0), b - b.mean(axis=0)
        power = (a**2).sum() + (b**2).sum()
        if power < 1e-12:
            return None
        off = ((a - b) ** 2).sum() / power
        unlike |= off > 0.5
        if unlike and off < best:
            best, found = off, k
        elif found is not None and off > 4 * best + 0.02:
            break
    if found is None:
        return None

    def unlike_by(shift):
        t = np.linspace(0, line.length - shift, 600)
        one, two = line.at(t)[0], line.at(t + shift)[0]
        one, two = one - np.outer(one @ way, way), two - np.outer(two @ way, way)
        return (((one - one.mean(axis=0)) - (two - two.mean(axis=0))) ** 2).sum()

    # between the samples: the least of it, to a hundredth of a millimetre
    near = (float(s[found - 1]), float(s[min(found + 1, 599)]))
    return float(optimize.minimize_scalar(unlike_by, bounds=near, method="bounded", options={"xatol": 1e-5}).x)


def _slide_offer(doc, thing, here, curve, first, last):
    """On a wavy path, a slide over whole wave lengths: the pose comes again, moved on."""
    line = line_of(doc.find(thing.constant("path")))
    length = None if line is None else line.length if line.closed else wave_length(line)
    gone = curve.at(last) - curve.at(first)
    if not length or abs(gone) < 1e-9:
        return []
    waves = gone / length
    near = round(waves) or int(np.copysign(1, waves))
    if abs(waves - near) * length < 1e-4:
        return []
    factor = near * length / gone
    begin = curve.at(first)
    value = curve.scaled_values([k.frame for k in curve.keys], factor, begin)
    words = f"{here}: goes {near * length:.4g} m instead of {gone:.4g} m, {abs(near)} wave length(s) of the path"
    return [Offer(thing.id, "slide", words, value)]


def closed_curve(curve: Curve, first: int, last: int, blend: int, drop: bool = False) -> Curve | None:
    """The curve with its end brought to its start, and going round outside the loop; None when it closes already."""
    span = curve.keys[-1].frame - curve.keys[0].frame
    if curve.after in ("cycle", "mirror", "accumulate") and span > 0:
        period = 2 * span if curve.after == "mirror" else span
        rounds = (last - first) / period
        if abs(rounds - round(rounds)) < WHOLE:
            return None
        near = max(1, round(rounds))
        factor = (last - first) / near / period
        about = curve.keys[0].frame
        return curve.moved([k.frame for k in curve.keys], 0, 0, times=factor, about=about)
    start, end = curve.at([first, last])
    still = len(curve.keys) < 2
    slopes = 0.0 if still else abs(_slope(curve, first, 1) - _slope(curve, last, -1))
    tall = max(abs(k.value) for k in curve.keys)
    if abs(start - end) <= 1e-9 * max(1.0, tall) and slopes <= 1e-6 * max(1.0, tall):
        return None
    closed = curve.closed(first, last, min(blend, last - first), drop)
    if closed.keys[0].frame == first and closed.keys[-1].frame == last:
        closed = closed.with_extend("cycle", "cycle")
    return closed


def _slope(curve, frame, side):
    low, high = curve.keys[0].frame, curve.keys[-1].frame
    outside = (frame >= high and side > 0) or (frame <= low and side < 0) or frame < low or frame > high
    return 0.0 if outside else curve.slope_at(frame, side)


def close(scene: Scene, chosen: list[Offer] | None = None, blend: int = 12) -> list[Offer]:
    """Carry out offers, or all there are, in one step of the history. Returns them."""
    chosen = offers(scene.doc, blend) if chosen is None else chosen
    if not chosen:
        return []
    doc = scene.doc
    for offer in chosen:
        if offer.thing and doc.find(offer.thing) is None:
            raise EstampaError("Closing the seam", "names a thing that is gone.", "Look at the offers again.")
        doc = offer.applied(doc)
    scene.apply(f"Close the seam ({len(chosen)} changes)", doc)
    return chosen
