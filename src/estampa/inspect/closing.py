"""What closes a loop's seam: offers, each measured before it is made, and keys that go round."""

from dataclasses import dataclass, replace

import numpy as np

from ..errors import Cancelled, EstampaError
from ..evaluate.arrange import line_of
from ..evaluate.evaluator import Evaluator
from ..geometry.paths import Sampled
from ..hashing import digest
from ..lazy import optimize
from ..scene.curves import Curve
from ..scene.document import Document, Thing
from ..scene.scene import Scene
from ..scene.values import Values
from ..units import format_length, format_value
from .loops import judged

QUARTERS = np.arange(-4, 5) / 4  # frames about a seam, at which an offer is judged
WHOLE = 1e-6  # rounds; nearer than this to a whole number is whole
NOTHING = {"m": 1e-4, "rad": float(np.radians(0.01))}  # gaps of a channel that are none; of other units, of its range


@dataclass(frozen=True)
class Offer:
    """One change that would close a part of the seam."""

    thing: str  # id; empty for the scene itself
    channel: str
    words: str
    value: object  # what the channel becomes
    gap: tuple[float, float] | None = None  # m, the largest gap of what it moves, before and after; None: not measured

    def in_full(self) -> str:
        """Its words, with what it does to the seam where that is known."""
        if self.gap is None:
            return self.words
        return f"{self.words} (seam {format_length(self.gap[0])}, then {format_length(self.gap[1])})"

    def applied(self, doc: Document) -> Document:
        if not self.thing:
            return doc.with_(**{self.channel: self.value})
        return doc.replace(_holding(doc, self.thing, {self.channel: self.value}))


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
                if closed is not None and not _is_nothing(value, channel, first, last):
                    gap = format_value(abs(value.at(last) - value.at(first)), channel.unit, 3)
                    words = f"{here}: its last {min(blend, last - first)} frames go back to the first value (gap {gap})"
                    found.append(Offer(thing.id, name, words, closed))
            elif slides and isinstance(value, Curve):
                found += _slide_offer(doc, thing, here, value, first, last)
            elif channel.accumulates and channel.along_path:
                found += _path_offer(thing, name, here, value, seconds, values)
    return found


def _is_nothing(curve: Curve, channel, first: int, last: int) -> bool:
    """Whether a curve's gap, and its change of slope, are too small to be seen."""
    low, high = channel.soft or (0, 1)
    least = NOTHING.get(channel.unit, 1e-4 * max(abs(high - low), 1e-9))
    slopes = abs(_slope(curve, first, 1) - _slope(curve, last, -1))
    return abs(curve.at(last) - curve.at(first)) < least and slopes < 0.1 * least


def measured(evaluator: Evaluator, found: list[Offer], cancelled=lambda: False) -> list[Offer]:
    """Offers with the gap that each leaves, at quarter frames about the seam, without those that make it worse. What is
    solved would have to be solved anew to be told, and is not measured."""
    doc = evaluator.doc
    first, last = doc.loop_range
    unsolved = (t for t in judged(evaluator) if not evaluator.owner(t).is_solved(t))
    before = {t.id: _course(evaluator, t, first, last) for t in unsolved}
    kept = []
    for offer in found:
        if cancelled():
            raise Cancelled
        changed = Evaluator(offer.applied(doc), evaluator.scene, evaluator.store)
        gaps = []
        for thing in judged(changed):
            if before.get(thing.id) is not None and _moved_by(evaluator, changed, thing, (first, last)):
                gaps.append((before[thing.id], _course(changed, thing, first, last)))
        if not gaps:
            kept.append(offer)
            continue
        gap = max(a for a, _ in gaps), max(b for _, b in gaps)
        if gap[1] <= gap[0] + 1e-9:
            kept.append(replace(offer, gap=gap))
    return kept


def _moved_by(evaluator, changed, thing, frames) -> bool:
    """Whether a thing looks otherwise in a changed document."""
    return any(_name(evaluator, thing.id, f) != _name(changed, thing.id, f) for f in frames)


def _name(evaluator, thing_id, frame):
    thing = evaluator.doc.find(thing_id)
    return digest(evaluator.owner(thing).shown_fingerprint(thing, float(frame)))


def _course(evaluator, thing, first, last) -> float:
    """m: the most that a thing's course bends within a frame of the seam, its gap included."""
    thing = evaluator.doc.find(thing.id)
    look = lambda f: evaluator.owner(thing).posed(thing, float(f))[0]
    p = [look(last + f) if f <= 0 else look(first + f) for f in QUARTERS]
    gap = np.linalg.norm(look(first) - p[4], axis=1).max(initial=0)
    bends = [np.linalg.norm(a - 2 * b + c, axis=1).max(initial=0) for a, b, c in zip(p, p[1:], p[2:], strict=False)]
    return float(max(gap, *bends))


def with_keys_round(doc: Document) -> tuple[Document, list[str]]:
    """(the document with every curve that moves cut to the loop and going round outside it, words of what was)."""
    first, last = doc.loop_range
    changed, words = doc, []
    for thing, _ in doc.everything():
        if thing.declared is None or not thing.on or thing.declared.family == "print":
            continue
        values = {}
        for name, channel in thing.declared.channels.items():
            curve = thing.values.get(name)
            if not isinstance(curve, Curve) or not channel.animates or (channel.along_path and not channel.accumulates):
                continue
            goes_round = {curve.before, curve.after} <= {"cycle", "mirror"}
            if len(curve.keys) < 2 or goes_round or not np.ptp(curve.at(np.arange(first - (last - first), last + 1.0))):
                continue
            values[name] = curve.between(first, last).with_extend("cycle", "cycle")
            words.append(f"{thing.name} · {channel.label.lower()}: its keys go round")
        if values:
            changed = changed.replace(_holding(changed, thing.id, values))
    return changed, words


def _holding(doc: Document, thing_id: str, values: dict) -> Thing:
    """A thing of a document with other values."""
    thing = doc.find(thing_id)
    if thing is None:
        raise EstampaError("Closing the seam", "names a thing that is gone.", "Look at the offers again.")
    return thing.with_(values={**thing.values, **values})


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
    chosen = measured(scene.evaluator(), offers(scene.doc, blend)) if chosen is None else chosen
    if not chosen:
        return []
    doc = scene.doc
    for offer in chosen:
        doc = offer.applied(doc)
    scene.apply(f"Close the seam ({len(chosen)} changes)", doc)
    return chosen
