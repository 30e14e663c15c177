"""Pieces to subjects: each piece of what was broken or cut becomes a subject of its own, with keys of how it moved, or
as a body that goes on by itself. The broken one is kept, switched off."""

from dataclasses import dataclass

import numpy as np

from ..edits.names import Names
from ..edits.things import reference
from ..errors import EstampaError
from ..geometry.mesh import Mesh
from ..geometry.place import Place
from ..scene.curves import Curve
from ..scene.document import Thing
from ..scene.ids import new_id
from ..scene.reduce import CHANNELS, Tolerance, placed_by_keys
from ..scene.scene import Scene
from ..units import format_length
from .bodies import body_of
from .work import frames_of, reporter

MOST = 5_000  # subjects that one command makes
OWN = ("each", "bonded", "strength", "shear", "crush", "lumps", "tougher")  # channels that pieces of one body have


@dataclass(frozen=True)
class PartedPieces:
    """What a parting gives: a mesh, channels and a name for each piece."""

    subject: str  # id of what it was made of
    meshes: tuple[Mesh, ...]  # about its own middle
    values: tuple[dict, ...]
    layer: Thing | None  # the body that each gets, where they are not keyed
    keys: int
    gap: float  # m, at the vertex that is the furthest from its subject's origin

    def words(self) -> str:
        own = f"{len(self.meshes):,} subjects"
        return f"{own}, {self.keys:,} keys, within {format_length(self.gap)} at every frame" if self.keys else own


def part(
    scene: Scene,
    subject_id: str,
    keyed: bool = True,
    frames: tuple[int, int] | None = None,
    tolerance: Tolerance | None = None,
    store=None,
    progress=None,
    cancelled=lambda: False,
) -> PartedPieces:
    """Work out a subject for each piece of one whose pieces move as wholes, solving what is not solved. Nothing is
    changed yet: see `put`. keyed -- with keys of how each moves; else each is a body as the whole one was, where it
    stands at the first frame. Without a tolerance every frame gets a key.

    Raises EstampaError where the subject is one piece, or its pieces do not move as wholes.
    """
    evaluator = scene.evaluator(store)
    subject = evaluator.doc.find(subject_id)
    if subject is None or subject.mesh is None:
        raise EstampaError("This", "is no subject with pieces.", "Select a subject that was broken or cut.")
    first, last = frames_of(evaluator.doc, frames)

    step = reporter(progress, cancelled)

    last = last if keyed else evaluator.doc.solved_from
    evaluator.solve_through(last, lambda share, text: step(0.7 * share, text), cancelled)
    numbers = np.arange(first if keyed else last, last + 1)
    stands = []
    for k, frame in enumerate(numbers.tolist()):
        outcome = evaluator.owner(subject).outcome(subject, frame)
        seen = outcome.parts[0] if outcome is not None else None
        if seen is None or seen.stands is None:
            cure = "Let the last one of its layers be a Body of pieces, or one that moves pieces."
            raise EstampaError(subject.name, f"does not move in pieces at frame {frame}.", cure)
        stands.append((seen.stands, seen.pieces, seen.centres))
        step(0.7 + 0.2 * (k + 1) / len(numbers), f"Reading frame {frame}")
    pieces, homes = stands[0][1:]
    if pieces.count < 2:
        raise EstampaError(subject.name, "is one piece.", "Break it, or cut it into pieces, first.")
    if pieces.count > MOST:
        cure = f"Print them, or break it into at most {MOST:,}."
        raise EstampaError(subject.name, f"has {pieces.count:,} pieces.", cure)
    mesh, shape = evaluator.mesh(subject), evaluator.subject(subject, int(numbers[0])).points
    began, centres = stands[0][0], stands[0][0].origin
    meshes = tuple(
        mesh.with_points(shape - centres[k]).only(pieces.of_vertex == k) for k in range(pieces.count)
    )  # as it stands at the first of the frames, about where its origin is then
    places = [_since(began, [s for s, *_ in stands], k) for k in range(pieces.count)]
    reach = [float(np.linalg.norm(m.points, axis=1).max()) for m in meshes]
    names = [f"{subject.name} {k + 1}" for k in range(pieces.count)]
    if not keyed:
        values = tuple(dict(zip(("x", "y", "z"), map(float, c), strict=True)) for c in centres)
        return PartedPieces(subject.id, meshes, values, _own_body(subject), 0, 0.0)
    curves, result = placed_by_keys(names, numbers.astype(float), places, reach, tolerance or Tolerance(0.0, 0.0))
    keyed_values: list[dict] = []
    for k in range(pieces.count):
        own = {c: curves[k, c] for c in CHANNELS if (k, c) in curves}
        keyed_values.append({c: v for c, v in own.items() if isinstance(v, Curve) or abs(v) > 1e-9})
    keys = sum(len(k) for (_, c), k in result.keys.items() if c < 6)
    return PartedPieces(subject.id, meshes, tuple(keyed_values), None, keys, result.gap)


def _since(began: Place, stands: list[Place], k: int) -> Place:
    """(f) how piece k stands, turned since the first of the frames."""
    back = began.axes[k].T
    return Place(
        np.array([s.origin[k] for s in stands]),
        np.array([s.axes[k] @ back for s in stands]),
        np.array([s.size[k] / began.size[k] for s in stands]),
    )


def _own_body(subject: Thing) -> Thing | None:
    body = body_of(subject)
    return body and body.with_(values={n: v for n, v in body.values.items() if n not in OWN})


def put(scene: Scene, parted: PartedPieces) -> list[Thing]:
    """Add the subjects and switch off what they were made of, in one step of the history."""
    doc, subject = scene.doc, scene.doc.find(parted.subject)
    if subject is None:
        raise EstampaError("The subject", "is gone.", "Undo its removal, then part it again.")
    names, made = Names(doc), []
    for k, (mesh, values) in enumerate(zip(parted.meshes, parted.values, strict=True)):
        body = parted.layer
        stack = () if body is None else (body.with_(id=new_id(), name=names.plain(f"{body.name} {k + 1}")),)
        ref = reference(scene.arrays, mesh, subject.mesh.source)
        made.append(Thing(kind="subject", name=names.plain(f"{subject.name} {k + 1}"), values=values, mesh=ref,
                          stack=stack))  # fmt: skip
    doc = doc.replace(subject.with_(on=False)).adding(*made)
    scene.apply(f"Pieces of {subject.name} to subjects", doc)
    return made
