"""What the lanes of the score show: which frames are solved, stale or unsolved, and why they are stale."""

from dataclasses import dataclass

import numpy as np

from ..evaluate.evaluator import Evaluator
from ..evaluate.reasons import MOVED, Read, reads_of_run
from ..scene.document import Document
from ..store.manifest import Manifest

UNSOLVED, STALE, SOLVED = 0, 1, 2


@dataclass(frozen=True)
class LaneState:
    """states (frames,) uint8, one per frame of the range; `why` names what made the stale ones stale."""

    states: np.ndarray
    why: str = ""

    @property
    def done(self) -> bool:
        return bool((self.states == SOLVED).all())

    def words(self) -> str:
        solved, count = int((self.states == SOLVED).sum()), len(self.states)
        text = "solved" if solved == count else f"{solved} of {count} frames solved" if solved else "not solved"
        return f"{text}; stale: {self.why}" if self.why else text


class LaneMemory:
    """Remembers, per layer and frame, the document that its last solved frame was of; so it can say what is different
    now. Of what was solved before the scene was opened the store remembers the rest."""

    def __init__(self):
        self._solved: dict[tuple[str, int], Document] = {}
        self._before: dict[str, Manifest | None] = {}  # runs as the store remembered them at first, by layer
        self.keys: dict[tuple[str, int], bytes] = {}  # (layer, frame) -> key of its last solved frame

    def state(self, evaluator: Evaluator, subject, layer) -> LaneState:
        doc, store = evaluator.doc, evaluator.store
        if layer.id not in self._before:
            self._before[layer.id] = store.remembered(evaluator.runs.of(subject, layer).id)
        before = self._before[layer.id]
        frames = range(doc.start, doc.end + 1)
        states = np.zeros(len(frames), np.uint8)
        why = ""
        for i, frame in enumerate(frames):
            known = self._solved.get((layer.id, frame))
            key = evaluator.key(subject, layer, frame)
            if store.has(key):
                states[i] = SOLVED
                self._solved[layer.id, frame], self.keys[layer.id, frame] = doc, key
            elif known is not None:
                states[i] = STALE
                why = why or _why(known, evaluator, layer.id, frame)
            elif before is not None and store.has(before.key(frame) or key):
                states[i] = STALE
                self.keys.setdefault((layer.id, frame), before.key(frame))
                why = why or _why_since(before, evaluator, subject, layer, frame)
        return LaneState(states, why)


def _why(then: Document, evaluator: Evaluator, layer_id: str, frame: int) -> str:
    """What a layer reads otherwise than in an earlier document."""
    before = Evaluator(then, evaluator.scene, evaluator.store, True)
    found = []
    for reader in (before, evaluator):
        layer, owner = reader.values.find(layer_id), reader.values.owner(layer_id)
        owner = owner or layer  # what is solved as a whole is its own
        there = owner is layer or (owner is not None and layer in reader.layers(owner))
        found.append(reads_of_run(reader, reader.runs.of(owner, layer), frame) if there and layer is not None else [])
    return differences(*found)


def _why_since(before: Manifest, evaluator: Evaluator, owner, layer, frame: int) -> str:
    """What a layer reads otherwise than when the store's frames were solved."""
    at = before.nearest(frame)
    if at is None:
        return ""
    now = reads_of_run(evaluator, evaluator.runs.of(owner, layer), at)
    return differences([Read(*r) for r in before.read[at]], now)


def differences(before: list[Read], now: list[Read], most: int = 3) -> str:
    """Names of what differs between two lists of reads, e.g. "Cloth · damping, Onshore wind · speed"."""
    old, new = {(r.path, r.label): r.value for r in before}, {(r.path, r.label): r.value for r in now}
    labels = [
        label
        for (path, label), value in {**old, **new}.items()
        if old.get((path, label), _ABSENT) != new.get((path, label), _ABSENT)
    ]
    if not labels and [r.path for r in before] != [r.path for r in now]:
        labels = ["the order of the stack"]
    # a layer that came, went or moved says all; its channels and grips, which came and went with it, need no word
    unique = list(dict.fromkeys([l for l in labels if l.endswith(MOVED)] or labels))
    text = ", ".join(unique[:most])
    return f"{text} and {len(unique) - most} more" if len(unique) > most else text


_ABSENT = object()
