"""Baking bodies to keys: a subject that the solve moves as a whole gets keys on its own position and turn."""

from dataclasses import dataclass

import numpy as np

from ..errors import EstampaError
from ..geometry.place import Place
from ..scene.curves import Curve
from ..scene.document import StashedValue, Thing
from ..scene.reduce import CHANNELS, Tolerance, placed_by_keys
from ..scene.scene import Scene
from ..scene.values import Rows
from ..units import format_length
from .work import frames_of, reporter


@dataclass(frozen=True)
class BakedBodies:
    """What a bake gives: a curve (or number) for (subject id, channel)."""

    subjects: tuple[str, ...]
    frames: tuple[int, int]
    curves: dict[tuple[str, str], Curve | float]
    keys: int
    gap: float  # m, at the vertex that is the furthest from its subject's origin
    turn: float  # rad
    layers: tuple[str, ...]  # that are switched off

    def words(self) -> str:
        count = self.frames[1] - self.frames[0] + 1
        return (
            f"{self.keys:,} keys on {len(self.subjects)} subjects over {count} frames; at every frame within "
            f"{format_length(self.gap)} and {np.degrees(self.turn):.2f}°"
        )


def body_of(subject: Thing) -> Thing | None:
    """The layer by which a subject is a body, when it is its last one that is on."""
    layers = subject.layers_on
    return layers[-1] if layers and layers[-1].declared.collides else None


def bake(
    scene: Scene,
    subjects: list[str] | None = None,
    frames: tuple[int, int] | None = None,
    tolerance: Tolerance | None = None,
    store=None,
    progress=None,
    cancelled=lambda: False,
) -> BakedBodies:
    """Work out keys for subjects that are bodies (all of them when none are named), solving what is not solved. Nothing
    is changed yet: see `put`. Without a tolerance every frame gets a key.

    Raises EstampaError when a subject is no body, or comes in pieces, which one position cannot carry.
    """
    evaluator = scene.evaluator(store)
    doc = evaluator.doc
    wanted = [doc.find(s) for s in subjects] if subjects is not None else [s for s in doc.subjects if body_of(s)]
    if not wanted:
        raise EstampaError("The bake", "finds no body.", "Add a Body layer to a subject first.")
    for subject in wanted:
        if body_of(subject) is None:
            cure = "Bake the subjects whose last layer is a body."
            raise EstampaError(subject.name, "is moved by no body at the foot of its stack.", cure)
    first, last = frames_of(doc, frames)

    step = reporter(progress, cancelled)

    evaluator.solve_through(last, lambda share, text: step(0.7 * share, text), cancelled)
    numbers = np.arange(first, last + 1)
    places, reach = [], []
    for k, subject in enumerate(wanted):
        places.append(_places(evaluator, subject, numbers))
        size = float(evaluator.values.place(subject, Rows.one(doc.solved_from)).size[0])
        reach.append(size * float(np.linalg.norm(scene.mesh(subject.mesh).points, axis=1).max()))
        step(0.7 + 0.2 * (k + 1) / len(wanted), f"Reading {subject.name}")
    return _keyed(wanted, (first, last), places, reach, tolerance or Tolerance(0.0, 0.0))


def _places(evaluator, subject: Thing, frames) -> Place:
    """(f) where a subject has to stand, within what it rides on, to be where the solve has it."""
    start, values = evaluator.doc.solved_from, evaluator.values
    began = values.place(subject, Rows.one(start))
    parent = values.find(subject.constant("parent"))
    origin, axes = [], []
    for frame in frames:
        pieces, stand, centres = evaluator.runs.stands(subject, int(frame)) or (None, None, None)
        if pieces is None:
            raise EstampaError(subject.name, f"is not solved at frame {frame}.", "Solve the scene first.")
        if pieces.count != 1:
            cure = "Print its pieces instead, or make each piece a subject."
            raise EstampaError(subject.name, f"comes in {pieces.count} pieces, which one position cannot carry.", cure)
        turn = stand.axes[0]
        place = Place(
            (stand.origin[0] + turn @ (began.origin[0] - centres[0]))[None], (turn @ began.axes[0])[None], began.size
        )
        if parent is not None and parent.declared is not None:
            place = values.place(parent, Rows.one(frame)).inverse() @ place
        origin.append(place.origin[0])
        axes.append(place.axes[0])
    return Place(np.array(origin), np.array(axes), np.repeat(began.size, len(frames)))


def _keyed(subjects, frames, places, reach, tolerance) -> BakedBodies:
    numbers = np.arange(frames[0], frames[1] + 1, dtype=float)
    found, result = placed_by_keys([s.name for s in subjects], numbers, places, reach, tolerance)
    curves = {(subjects[k].id, channel): v for (k, channel), v in found.items()}
    keys = sum(len(k) for (_, c), k in result.keys.items() if c < 6)
    layers = tuple(body_of(s).id for s in subjects)
    return BakedBodies(tuple(s.id for s in subjects), frames, curves, keys, result.gap, result.turn, layers)


def put(scene: Scene, baked: BakedBodies) -> None:
    """Put baked keys on the subjects and switch their bodies off, in one step; `back_to_live` takes it back."""
    changed = {}
    for subject_id in baked.subjects:
        subject = scene.doc.find(subject_id)
        if subject is None:
            raise EstampaError("A subject", "is gone.", "Undo its removal, then bake again.")
        before = tuple(
            StashedValue(thing=subject_id, channel=n, value=subject.values[n]) for n in CHANNELS if n in subject.values
        )
        values = {n: v for n, v in subject.values.items() if n not in CHANNELS}
        found = {n: baked.curves[subject_id, n] for n in CHANNELS}
        values |= {n: v for n, v in found.items() if isinstance(v, Curve) or abs(v) > 1e-9}
        stack = tuple(l.with_(on=False) if l.id in baked.layers else l for l in subject.stack)
        live = tuple(l.id for l in subject.stack if l.id in baked.layers)
        changed[subject_id] = subject.with_(values=values, stack=stack, live=live, before=before)
    scene.apply("Bake bodies to keys", scene.doc.replace_all(changed))


def back_to_live(scene: Scene, subjects: list[str] | None = None) -> None:
    """Switch the bodies on again that a bake switched off, and put their subjects back where they were before it."""
    wanted = [s for s in scene.doc.subjects if s.live and (subjects is None or s.id in subjects)]
    if not wanted:
        raise EstampaError("This", "has not been baked.", "Bake its bodies to keys first.")
    changed = {}
    for subject in wanted:
        values = {n: v for n, v in subject.values.items() if n not in CHANNELS}
        values |= {k.channel: k.value for k in subject.before}
        stack = tuple(l.with_(on=True) if l.id in subject.live else l for l in subject.stack)
        changed[subject.id] = subject.with_(values=values, stack=stack, live=(), before=())
    scene.apply("Bodies back to live", scene.doc.replace_all(changed))
