"""Outcome: what anything looks like at a frame; all that pictures, prints, loops and sync read."""

from dataclasses import dataclass

import numpy as np

from ..geometry.mesh import Mesh
from ..geometry.pieces import Pieces
from ..geometry.place import Place
from ..geometry.primitives import joined
from ..hashing import digest


@dataclass(frozen=True)
class Part:
    """One topology: points of its own, or a prototype that stands in places.

    points -- (n, 3) m in the world; where there are places, (c, n, 3) in the prototype's own space: one shape for all,
    one for each, or those of a cycle, of which `shape` (k,) says which one each place shows
    ids -- (k,) of the places, ascending, the same thing at every frame
    pieces -- which parts of the mesh move as wholes, and `stands` (p) where they stand, of what is moved so
    """

    mesh: Mesh
    points: np.ndarray
    places: Place | None = None
    ids: np.ndarray | None = None
    pieces: Pieces | None = None
    stands: Place | None = None
    centres: np.ndarray | None = None  # (p, 3) m, where `stands` has its origin in the shape at first
    velocity: np.ndarray | None = None  # (k, 3) m/s of the places; (n, 3) of the points where there are none
    shape: np.ndarray | None = None  # (k,) which of `points` each place shows
    beat: tuple[np.ndarray, np.ndarray] | None = None  # (k,) each: rate and first frame by which `shape` goes on
    layer: str = ""  # which shows it, of what several layers show
    tints: np.ndarray | None = None  # (k, 3) linear light of each place, in place of the mesh's materials
    inks: np.ndarray | None = None  # (n, 3) linear light of each point, where it is no prototype

    @property
    def count(self) -> int:
        """How many times it is seen."""
        return 1 if self.places is None else self.places.rows

    @property
    def alike(self) -> bool:
        """Whether one shape is seen in every place."""
        return self.places is not None and len(self.points) == 1

    def in_world(self) -> np.ndarray:
        """(n, 3) m; of places, (k n, 3), one after another."""
        if self.places is None:
            return self.points
        points = self.points if self.shape is None else self.points[self.shape]
        return self.places.apply(points).reshape(-1, 3)

    def as_one(self) -> Mesh:
        """The topology of `in_world`; kept by the mesh itself."""
        if self.places is None:
            return self.mesh
        return self.mesh.cached("many", lambda: joined([self.mesh] * self.count), self.count)


@dataclass(frozen=True)
class Outcome:
    """What a thing looks like. When a frame is not solved, something stands in for it (see Shape)."""

    parts: tuple[Part, ...]
    digest: bytes
    is_current: bool = True
    shown_frame: float | None = None

    def points(self) -> np.ndarray:
        """(n, 3) m in the world, of all parts one after another."""
        found = [part.in_world() for part in self.parts]
        return found[0] if len(found) == 1 else np.concatenate(found or [np.zeros((0, 3))])


def of_subject(evaluator, subject, frame: float) -> Outcome:
    """A subject after its whole stack."""
    shape = evaluator.subject(subject, frame)
    mesh = evaluator.mesh(subject)
    found = evaluator.runs.stands(subject, frame) or evaluator.stacks.stands(subject, frame)
    pieces, stands, centres = found or (None, None, None)
    part = Part(mesh, shape.points, pieces=pieces, stands=stands, centres=centres)
    return Outcome((part,), shape.digest, shape.is_current, shape.shown_frame)


def of_copies(evaluator, copies, frame: float) -> Outcome | None:
    """The copies of a subject; None when they name none."""
    found = evaluator.copies(copies, frame)
    if found is None:
        return None
    shape, places = found.shape, found.places
    parts = (Part(found.mesh, shape.points, places, np.arange(places.rows)),) if places.rows else ()
    return Outcome(parts, digest(shape.digest, places), shape.is_current, shape.shown_frame)


def of(evaluator, thing, frame: float, skinned: bool = True) -> Outcome | None:
    """What a thing looks like at a frame; None of what has no surface. skinned -- False: of a
    liquid its grains alone."""
    return evaluator.owner(thing).outcome(thing, frame, skinned)


def since_broken(
    evaluator, subject, part: Part, unmoved: np.ndarray, frame: float
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """((p, 3, 3) turns, those with their sizes, (p, 3) m shifts) of pieces since they left Break.
    unmoved (n, 3) m -- where the broken mesh stood then."""
    one = evaluator.stage.one
    still = one(subject, frame).place, one(subject, evaluator.doc.solved_from).place
    if part.stands is not None and all(np.array_equal(a, b) for a, b in zip(*still, strict=True)):
        stands, home = part.stands, part.centres
    else:
        stands, home = Pieces.each(part.mesh).since(unmoved, part.points)
    linear = stands.axes * stands.size[:, None, None]
    return stands.axes, linear, stands.origin - np.einsum("pij,pj->pi", linear, home)
