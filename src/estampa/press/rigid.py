"""What prints of pieces share: a subject whose pieces move as wholes, over the frames that are printed."""

from dataclasses import dataclass

import numpy as np

from ..errors import EstampaError
from ..evaluate.stacks import count_of_pieces
from ..geometry.mesh import Mesh
from ..geometry.pieces import Pieces
from ..geometry.pose import turn_matrices, turns_of
from ..kinds.channels import choice, ref
from ..scene.values import Rows
from .prints import Job, MeshPrint


@dataclass
class Rigid:
    """A mesh in its pieces, and where they stand at each frame."""

    name: str
    mesh: Mesh  # points as they were at first, in the world
    pieces: Pieces
    centres: np.ndarray  # (p, 3) m, the origin of each piece in the shape at first
    places: np.ndarray  # (f, p, 3) m
    turns: np.ndarray  # (f, p, 4) unit quaternions x, y, z, w, none further than half a round from the one before
    sizes: np.ndarray  # (f, p) factor

    @property
    def names(self) -> list[str]:
        count = self.pieces.count
        return [self.name] if count == 1 else [f"{self.name}_{i + 1:03d}" for i in range(count)]

    @property
    def order(self) -> np.ndarray:
        """The vertices of the mesh, piece after piece."""
        return np.concatenate(self.pieces.vertices)

    def part(self, i: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """(vertices of a piece, their points about its origin, its triangles as numbers of those vertices)."""
        own, number = self.pieces.vertices[i], self.pieces.number
        return own, self.mesh.points[own] - self.centres[i], number[self.pieces.triangles[i]]

    def corners(self, i: int) -> np.ndarray:
        """(t, 3) the corners of faces that the triangles of a piece have, in the order of `part`."""
        of = self.pieces.of_vertex[self.mesh.triangles[:, 0]]
        return self.mesh.triangle_corners[np.argsort(of, kind="stable")][self._span(of, i)]

    @staticmethod
    def _span(of, i: int) -> slice:
        ends = np.cumsum(np.bincount(of, minlength=i + 1))
        return slice(ends[i - 1] if i else 0, ends[i])

    def faces(self, i: int) -> np.ndarray:
        """(t,) the face of each triangle of a piece, in the order of `part`."""
        of = self.pieces.of_vertex[self.mesh.triangles[:, 0]]
        return self.mesh.triangle_faces[np.argsort(of, kind="stable")][self._span(of, i)]

    def materials(self, i: int) -> np.ndarray:
        """(t,) the material of each of those."""
        return self.mesh.face_materials[self.faces(i)]

    def moved(self, f: int) -> np.ndarray:
        """(n, 3) m in the world at the f-th frame."""
        of = self.pieces.of_vertex
        arms = self.mesh.points - self.centres[of]
        linear = turn_matrices(self.turns[f]) * self.sizes[f][:, None, None]
        return np.einsum("nij,nj->ni", linear[of], arms) + self.places[f][of]

    @property
    def grows(self) -> bool:
        """Whether any piece has another size than at first, but for rounding."""
        return bool((np.abs(self.sizes - 1) > 1e-9).any())

    def still(self, i: int) -> bool:
        """Whether a piece never moves over the frames."""
        alike = lambda rows: np.ptp(rows, axis=0).max() <= 1e-7
        return all(alike(rows[:, i]) for rows in (self.places, self.turns, self.sizes[..., None]))


class PiecePrint(MeshPrint):
    """Base of the prints of a subject whose pieces move as wholes."""

    pivot = choice(
        "mass",
        "What a piece turns about in the file, and its place is that of. The motion is the same.",
        {
            "mass": "Its centre of mass",
            "middle": "Its middle",
            "lowest": "The middle of its foot",
            "grip": "A grip, for all",
        },
    )
    pivot_grip = ref(
        "grip", "The grip, where it stands at the first frame.", title="Pivot grip", when=(("pivot", ("grip",)),)
    )

    def trouble(self, doc, printed):
        layers = printed.layers_on
        last = layers[-1].declared if layers else None
        if last is None or not (getattr(last, "ensemble", "") or last.of_pieces or last.moves_pieces):
            words = "Let the last one of its layers be a Body or one that moves pieces, or print its vertices."
            return f"{printed.name} does not move in pieces. {words}"
        return ""


def rigid_of(job: Job, progress=lambda share, text: None) -> Rigid:
    """The pieces of a job's subject over its frames. Raises EstampaError when they are not the same at all of them."""
    places, turns, sizes, first = [], [], [], None
    for i, frame in enumerate(job.written):
        part = job.outcome(job.shown(frame)).parts[0]
        if part.stands is None:
            raise EstampaError(job.item.name, f"finds no pieces at frame {frame}.", "Solve the scene, and print again.")
        first = first or part
        if part.pieces.count != first.pieces.count:
            raise EstampaError(job.item.name, "finds other pieces from frame to frame.", "Print its vertices instead.")
        places.append(part.stands.origin)
        turns.append(turns_of(part.stands.axes))
        sizes.append(part.stands.size)
        progress((i + 1) / len(job.written), f"Reading frame {frame}")
    places, turns = np.array(places), np.array(turns)
    for f in range(1, len(turns)):  # the shorter way round, from frame to frame
        turns[f] *= np.where((turns[f] * turns[f - 1]).sum(axis=1, keepdims=True) < 0, -1.0, 1.0)
    layers, sizes = job.evaluator.layers(job.subject), np.array(sizes)
    above = layers[: -max(count_of_pieces(layers), 1)]
    shape = job.evaluator.through(job.subject, above, job.evaluator.doc.solved_from)
    origin, pieces = job.origin, first.pieces
    mesh = job.mesh.with_points(shape.points if origin is None else shape.points[origin])
    if origin is not None:
        pieces = Pieces(mesh, pieces.of_vertex[origin])
    centres = _pivots(job, mesh, pieces, first.centres)
    places += np.einsum("fpij,pj->fpi", turn_matrices(turns) * sizes[..., None, None], centres - first.centres)
    return Rigid(job.subject.name, mesh, pieces, centres, places, turns, sizes)


def _pivots(job: Job, mesh: Mesh, pieces: Pieces, masses: np.ndarray) -> np.ndarray:
    """(p, 3) m where each piece has its origin in the shape at first; `masses` are its centres of mass."""
    which = job.item.constant("pivot")
    if which == "mass":
        return masses
    if which != "grip":
        return pieces.origins(mesh.points, which)
    grip = job.evaluator.doc.find(job.item.constant("pivot_grip"))
    if grip is None:
        words = "is to turn its pieces about a grip, and names none."
        raise EstampaError(job.item.name, words, "Choose the pivot grip, or another pivot.")
    at = job.evaluator.values.place(grip, Rows.one(job.evaluator.doc.solved_from)).origin
    return np.repeat(at, pieces.count, axis=0)
