"""Sync: which copies and layers move in step, so that the eye sees one motion many times over."""

from dataclasses import dataclass

import numpy as np

from .. import edits as do
from ..edits.rig import differing_by_copy, make_different
from ..errors import EstampaError
from ..evaluate import outcome
from ..evaluate.evaluator import Evaluator
from ..scene.scene import Scene

SAMPLES = 32  # frames looked at over the range
ALIKE = 0.95  # correlation above which two motions look like one
FINE = 192  # frames looked at over the range to find a period
AGAIN, OTHER = 0.97, 0.7  # autocorrelation at which a motion comes again, and below which it was another one before


@dataclass(frozen=True)
class InStep:
    """Members that move in step: copies of one Copies thing, or layers of one subject."""

    thing: str  # id of the copies or of the subject
    what: str  # "copies" or "layers"
    members: tuple[str, ...]  # layer ids, or numbers of copies
    count: int  # of how many
    correlation: float  # the highest between two

    def words(self, name: str) -> str:
        who = f"{len(self.members)} of {self.count} {self.what} of {name}"
        return f"{who} move in step (correlation {self.correlation:.2f})."


def _unit(signals: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """((m, f, d) signals about their means, of length 1; (m,) which of them move). What is still becomes 0."""
    s = signals - signals.mean(axis=1, keepdims=True)
    length = np.sqrt((s**2).sum(axis=(1, 2)))
    moving = length > 1e-9
    return s * np.where(moving, 1 / np.where(moving, length, 1), 0)[:, None, None], moving


def at_lag(signals: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(correlation (m, m) at its highest, lag (m, m) in samples where it is) between (m, f, d) signals.

    Circular cross-correlation by the Fourier transform, normalised; what does not move correlates with nothing.
    """
    spectrum = np.fft.rfft(_unit(signals)[0], axis=1)
    cross = np.einsum("afd,bfd->abf", spectrum, spectrum.conj())
    found = np.fft.irfft(cross, n=signals.shape[1], axis=2)
    lag = found.argmax(axis=2)
    half = signals.shape[1] / 2
    return np.take_along_axis(found, lag[..., None], axis=2)[..., 0], np.where(lag > half, lag - signals.shape[1], lag)


def grouped(signals: np.ndarray) -> list[tuple[list[int], float]]:
    """Groups of at least two signals that are alike without a lag, with the highest correlation in each."""
    unit, moving = _unit(signals)
    together = np.einsum("afd,bfd->ab", unit, unit)
    left, groups = list(np.flatnonzero(moving)), []
    while left:
        first = left.pop(0)
        group = [first, *(k for k in left if together[first, k] > ALIKE)]
        left = [k for k in left if k not in group]
        if len(group) > 1:
            part = together[np.ix_(group, group)] - 2 * np.eye(len(group))
            groups.append(([int(k) for k in group], float(part.max())))
    return groups


def cost(evaluator: Evaluator) -> int:
    """Vertices that are worked out to look for what moves in step."""
    total = 0
    for thing in evaluator.doc.things:
        subject = evaluator.doc.shape_of(thing)
        if thing.on and subject is not None:
            rows = len(evaluator.stage.many(thing, subject, evaluator.doc.start).rows) if thing is not subject else 1
            total += SAMPLES * rows * evaluator.scene.mesh(subject.mesh).count * max(len(evaluator.layers(subject)), 1)
    return total


def frames_looked_at(doc) -> np.ndarray:
    first, last = doc.loop_range
    return np.linspace(first, last, SAMPLES, endpoint=False)


def copies_in_step(evaluator: Evaluator, copies) -> list[InStep]:
    """The copies of one Copies thing that move in step with another of them."""
    signals = copy_signals(evaluator, copies)
    if signals is None:
        return []
    groups = grouped(signals)
    members = tuple(str(k) for group, _ in groups for k in group)
    highest = max((c for _, c in groups), default=0.0)
    return [InStep(copies.id, "copies", members, len(signals), highest)] if groups else []


def copy_signals(evaluator: Evaluator, copies, frames: np.ndarray | None = None) -> np.ndarray | None:
    """(k, frames, 12) how each copy moves in its own space: its liveliest vertex, and how it is turned."""
    rows = []
    for frame in frames_looked_at(evaluator.doc) if frames is None else frames:
        found = outcome.of(evaluator, copies, float(frame))
        if found is None or not found.parts or found.parts[0].count < 2:
            return None
        part = found.parts[0]
        subject = evaluator.doc.shape_of(copies)
        many = evaluator.stage.many(copies, subject, float(frame))
        own = many.own.spread(part.count)
        rows.append((np.broadcast_to(part.points, (own.rows, *part.points.shape[1:])), own))
    # the vertex that moves most, judged on a handful of vertices
    some = np.unique(np.linspace(0, part.mesh.count - 1, 64).astype(int))
    moved = np.stack([p[:, some] for p, _ in rows], axis=1)  # (k, f, some, 3)
    liveliest = moved.std(axis=1).sum(axis=2).mean(axis=0).argmax()
    size = float(np.linalg.norm(part.mesh.size)) or 1.0
    turned = np.stack([np.concatenate([o.origin, o.axes.reshape(-1, 9) * 0.5 * size], axis=1) for _, o in rows], axis=1)
    return np.concatenate([moved[:, :, liveliest], turned], axis=2)


def period_of(evaluator: Evaluator, copies) -> tuple[float, int]:
    """(frames after which the motion of copies comes again, how often that is in the loop): by the autocorrelation of
    the first one over the loop range. (the range, 1) of a motion that does not come again within it."""
    first, last = evaluator.doc.loop_range
    frames = np.linspace(first, last, FINE, endpoint=False)
    signals = copy_signals(evaluator, copies, frames)
    if signals is None:
        return float(last - first), 1
    unit, moving = _unit(signals)
    if not moving.any():
        return float(last - first), 1
    spectrum = np.abs(np.fft.rfft(unit[int(moving.argmax())], axis=0)) ** 2
    alike = np.fft.irfft(spectrum.sum(axis=1), n=FINE)
    alike = alike / alike[0]
    other = np.flatnonzero(alike < OTHER)
    again = [k for k in range(int(other[0]) if len(other) else FINE, FINE // 2 + 1) if alike[k] > AGAIN]
    if not again:
        return float(last - first), 1
    best = max(again[:1] + [k for k in again if k - again[0] <= 3], key=lambda k: alike[k])
    rounds = max(round(FINE / best), 1)
    return (last - first) / rounds, rounds


def layers_in_step(evaluator: Evaluator, subject) -> list[InStep]:
    """Groups of layers of one kind of a subject that move their vertices in step."""
    stack = evaluator.layers(subject)
    layers = [l for l in stack if not l.declared.memory and not l.declared.remeshes]
    kinds = {l.kind for l in layers if sum(o.kind == l.kind for o in layers) > 1}
    layers = [l for l in layers if l.kind in kinds]
    if len(layers) < 2 or any(l.declared.remeshes or l.declared.memory for l in stack[:-1]):
        return []
    signals = {l.id: [] for l in layers}
    for frame in frames_looked_at(evaluator.doc):
        many = evaluator.stage.one(subject, float(frame))
        before = evaluator.scene.mesh(subject.mesh).points
        for count, layer in enumerate(stack, 1):
            if layer.declared.remeshes:
                break
            after = evaluator.rows(subject, stack[:count], many).points[0]
            if layer.id in signals:
                weights = subject.map(layer.constant("map"))
                w = evaluator.scene.arrays.get(weights.weights) if weights else np.ones(len(after))
                signals[layer.id].append(((after - before) * w[:, None]).sum(axis=0) / max(float(w.sum()), 1e-9))
            before = after
    groups = grouped(np.array([signals[l.id] for l in layers]))
    return [InStep(subject.id, "layers", tuple(layers[k].id for k in g), len(layers), c) for g, c in groups]


def in_step(evaluator: Evaluator) -> list[InStep]:
    """All groups of copies and layers of a scene that move in step."""
    found = []
    for thing in evaluator.doc.things:
        if thing.on and thing.mesh is not None:
            found += layers_in_step(evaluator, thing)
        elif thing.on and evaluator.doc.shape_of(thing) is not None:
            found += copies_in_step(evaluator, thing)
    return found


def desync(scene: Scene, found: InStep, seed: int = 1, vary: float = 0.0, store=None) -> list[InStep]:
    """Bring members out of step: copies by a stagger in a chance order over the measured period of their motion, layers
    by their phases. Nothing changes its place. Returns what still moves in step, as it is found when looking again.

    vary -- share up to which copies may be quicker or slower (in a loop by whole rounds), move more or less, and in
            another shape by chance, since a stagger alone cannot bring many copies of one period out of step
    """
    bring_out(scene, found, seed, vary)
    left = in_step(scene.evaluator(store, stand_ins=True))
    return [f for f in left if f.thing == found.thing and f.what == found.what]


def bring_out(scene: Scene, found: InStep, seed: int, vary: float) -> None:
    """Shift what moves in step, as one edit; whether that was enough is for `in_step` to tell (see `desync`)."""
    thing = scene.doc.find(found.thing)
    if thing is None:
        raise EstampaError("Desync", "names a thing that is gone.", "Look for what moves in step again.")
    if found.what == "copies":
        period, rounds = period_of(scene.evaluator(stand_ins=True), thing)
        values = {"order": "seed", "stagger": period / max(found.count, 1), "timing_seed": seed}
        doc = scene.doc
        if vary > 0:
            values |= {"amounts": vary, "rates": vary, "rounds": rounds if doc.loop is not None else 0}
            shape = doc.shape_of(thing)
            doc = doc.replace(differing_by_copy(shape, vary, seed)) if shape is not None else doc
        held = doc.find(thing.id) or thing
        scene.apply(f"Desync {thing.name}", doc.replace(held.with_(values={**held.values, **values})))
        return
    layers = [scene.doc.find(m) for m in found.members]
    curves = {}
    for k, layer in enumerate(layers):
        for name in layer.declared.channels:
            curve = layer.curve(name)
            if curve is not None and curve.after in ("cycle", "mirror", "accumulate"):
                span = curve.keys[-1].frame - curve.keys[0].frame
                later = round(span * k / len(layers))
                curves[layer.id, name] = curve.moved([key.frame for key in curve.keys], later, 0.0)
    if curves:  # what cycles by keys plays them later, one after another
        do.set_curves(scene, curves, f"Desync {len(layers)} layers")
    elif "phase" in layers[0].declared.channels or "heading" in layers[0].declared.channels:
        make_different(scene, list(found.members), 1.0, seed)
    else:
        raise EstampaError(
            f"The layers of {thing.name}",
            "have neither a phase nor keys that cycle, so nothing can be shifted.",
            "Give them other values by hand, or key them and let the curves cycle.",
        )
