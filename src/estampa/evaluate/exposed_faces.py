"""What is bared as pieces part: where dust and small debris come from."""

from dataclasses import dataclass

import numpy as np

from ..geometry.bonds import neighbours
from ..geometry.mesh import crossed
from ..geometry.pieces import Pieces
from ..geometry.seamless import together
from . import outcome


@dataclass(frozen=True)
class Bared:
    """Faces that were bared in the step to a frame: points (n, 3) m their middles, normals (n, 3), speed (n, 3) m/s of
    their piece there, area (n,) m2, piece (n,) which one each is of, triangle (n,) which one of the mesh it is."""

    points: np.ndarray
    normals: np.ndarray
    speed: np.ndarray
    area: np.ndarray
    piece: np.ndarray
    triangle: np.ndarray


def bared(evaluator, subject, frame: float) -> Bared:
    """Of a broken subject: the inner faces whose piece left its neighbour between the frame before and this one; none
    of any other, and none at the first frame."""
    mesh = evaluator.mesh(subject)
    none = np.zeros(0, np.int64)
    empty = Bared(np.zeros((0, 3)), np.zeros((0, 3)), np.zeros((0, 3)), np.zeros(0), none, none)
    if mesh.cut_from is None or frame <= evaluator.doc.start:
        return empty
    beside = neighbours(mesh)
    walls = np.flatnonzero(beside >= 0)
    piece = Pieces.each(mesh).of_vertex[mesh.triangles[walls, 0]]
    before, now = (_parted(evaluator, subject, mesh, piece, beside[walls], f) for f in (frame - 1, frame))
    fresh = now[0] & ~before[0]
    if not fresh.any():
        return empty
    walls, piece = walls[fresh], piece[fresh]
    was, at = (points[mesh.triangles[walls]] for points in (before[1], now[1]))
    normals = crossed(at)
    twice = np.linalg.norm(normals, axis=1)
    speed = (at.mean(axis=1) - was.mean(axis=1)) * evaluator.doc.frame_rate
    return Bared(at.mean(axis=1), normals / np.maximum(twice, 1e-300)[:, None], speed, twice / 2, piece, walls)


def _parted(evaluator, subject, mesh, a, b, frame) -> tuple[np.ndarray, np.ndarray]:
    """((w,) bool whether pieces a and b have left each other, (n, 3) m where the mesh is)."""
    layers = evaluator.layers(subject)
    at = max(i for i, l in enumerate(layers) if l.declared.slow)
    unmoved = evaluator.through(subject, layers[: at + 1], frame).points
    part = outcome.of_subject(evaluator, subject, frame).parts[0]
    _, linear, shift = outcome.since_broken(evaluator, subject, part, unmoved, frame)
    return ~together(linear, shift, a, b, float(mesh.size.max())), part.points
