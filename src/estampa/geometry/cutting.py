"""Cutting a closed mesh into cells, by a geometry package (manifold3d) that keeps what face each part is of.

The package holds the interpreter lock, so that large cuts go to worker processes.
"""

from dataclasses import dataclass

import numpy as np

from ..worker_processes import Workers
from .rough import Closed

INSIDE = -1  # face of what was bared by a cut
CHUNKED, CHUNK = 20_000, 8  # above so many triangles the mesh is first cut into boxes of so many cells
IN_PROCESS = 150_000  # cells times the root of triangles: below, a worker is not worth its start
WORKERS = 2
SLIVER = 1e-9  # of the box around a cell, below which nothing is left of it

_workers = Workers(WORKERS)
end_workers = _workers.end  # as the end of the program does; for one that does not wait for its threads


@dataclass(frozen=True)
class Cuts:
    """What cells are made of.

    points (m, 3) m; triangles (t, 3); cell (t,) which cell each triangle is of; face (t,) the triangle of the mesh that
    it is a part of, or INSIDE; share (t, 3, 3) where its corners are in that triangle, as shares of its three corners
    """

    points: np.ndarray
    triangles: np.ndarray
    cell: np.ndarray
    face: np.ndarray
    share: np.ndarray


class CutRefused(Exception):
    """What the package says of a mesh that it cannot cut."""


def cut(
    points: np.ndarray, triangles: np.ndarray, cells: list[np.ndarray], workers: int | None = None, on_progress=None
) -> Cuts:
    """The parts of a closed mesh in cells, each given by the corners (c, 3) m of a convex one, or as `rough.Closed`.

    points (n, 3) m; triangles (t, 3), counter-clockwise seen from outside; workers -- how many processes, or None for
    what suits the work; told(share) -- called as parts are done; it may raise to stop.
    Raises CutRefused where the mesh holds no volume that the package can cut.
    """
    work = len(cells) * np.sqrt(len(triangles))
    workers = (0 if work < IN_PROCESS else WORKERS) if workers is None else workers
    groups = _groups(cells, triangles, workers)
    if on_progress is not None:
        on_progress(0.0)
    if workers == 0:
        solid = solid_of(points, triangles)
        done = []
        for i, group in enumerate(groups):
            done.append(_cut_group(*solid, [cells[c] for c in group], group, len(triangles) > CHUNKED))
            if on_progress is not None:
                on_progress((i + 1) / len(groups))
        return _together(done)
    calls = [([cells[c] for c in group], group) for group in groups]
    return _together(_workers.run(_prepared, (points, triangles), _cut_call, calls, on_progress, workers))


def united(points, triangles, cells, cuts: Cuts, group: np.ndarray) -> Cuts:
    """The same where cells of one group (c,) are one part, named by its group."""
    solid, number = solid_of(points, triangles)
    several = np.flatnonzero(np.bincount(group, minlength=len(cells)) > 1)
    stays = ~np.isin(group[cuts.cell], several)
    kept = cuts.triangles[stays]
    used = np.zeros(len(cuts.points), bool)
    used[kept] = True
    place = np.cumsum(used) - 1
    parts = [(cuts.points[used], place[kept], cuts.cell[stays], cuts.face[stays], cuts.share[stays][:, :, 1:])]
    parts += [_cut_group(solid, number, [[cells[c] for c in np.flatnonzero(group == g)]], [g], False) for g in several]
    return _together(parts)


def _groups(cells, triangles, workers) -> list[list[int]]:
    """Cells that are cut together: neighbours, where the mesh is large."""
    if len(triangles) <= CHUNKED:
        size = max(1, -(-len(cells) // (8 * max(workers, 1))))
        return [list(range(i, min(i + size, len(cells)))) for i in range(0, len(cells), size)]
    middles = np.array([c.mean(axis=0) if len(c) else np.zeros(3) for c in map(_corners, cells)])
    waiting, found = [np.arange(len(cells))], []
    while waiting:
        own = waiting.pop()
        if len(own) <= CHUNK:
            found.append(own.tolist())
            continue
        by = own[np.argsort(middles[own, int(np.argmax(np.ptp(middles[own], axis=0)))], kind="stable")]
        waiting += [by[len(by) // 2 :], by[: len(by) // 2]]
    return found


def solid_of(points, triangles):
    """(the package's solid, its number). Each corner has its place in its triangle with it."""
    import manifold3d as m3

    corners, count = triangles.ravel().astype(np.int64), 3 * len(triangles)
    first = np.full(len(points), -1, np.int64)
    order = np.arange(count)[::-1]
    first[corners[order]] = order  # the first corner of each vertex
    to = first[corners]
    copies = np.flatnonzero(to != np.arange(count))
    rows = np.zeros((count, 5))
    rows[:, :3] = points[corners]
    rows[1::3, 3] = rows[2::3, 4] = 1.0  # the share of the second corner, and of the third
    number = m3.Manifold.reserve_ids(1)
    made = m3.Manifold(
        m3.Mesh64(
            vert_properties=rows, tri_verts=np.arange(count, dtype=np.uint64).reshape(-1, 3),
            merge_from_vert=copies.astype(np.uint64), merge_to_vert=to[copies].astype(np.uint64),
            run_index=np.array([0, count], np.uint64), run_original_id=np.array([number], np.uint32),
            face_id=np.arange(len(triangles), dtype=np.uint64),
        )
    )  # fmt: skip
    if made.status() != m3.Error.NoError or made.is_empty():
        raise CutRefused(str(made.status()).rpartition(".")[2] if not made.is_empty() else "it is empty")
    return made, number


def _prepared(points, triangles):
    return *solid_of(points, triangles), len(triangles) > CHUNKED


def _cut_call(prepared, call):
    solid, number, chunked = prepared
    return _cut_group(solid, number, *call, chunked)


def _cut_group(solid, number, cells, which, chunked) -> tuple:
    import manifold3d as m3

    if chunked and len(cells):
        every = np.concatenate([_corners(c) for c in cells if len(c)] or [np.zeros((1, 3))])
        low, high = every.min(axis=0), every.max(axis=0)
        solid = solid ^ m3.Manifold.cube(tuple(high - low)).translate(tuple(low))
    rows, triangles, ids, runs, cell, faces, merges, count = [], [], [], [], [], [], [], 0
    for c, corners in zip(which, cells, strict=True):
        if not isinstance(corners, list) and len(_corners(corners)) < 4:
            continue
        part = solid ^ _shape(m3, corners)
        if not isinstance(corners, list) and part.volume() < SLIVER * float(np.prod(np.ptp(_corners(corners), axis=0))):
            continue  # a cell that only touches the mesh leaves a skin without a volume
        made = part.to_mesh64()
        own, at = made.tri_verts, made.vert_properties
        if not len(own):
            continue
        rows.append(at if at.shape[1] == 5 else np.pad(at, ((0, 0), (0, 5 - at.shape[1]))))
        triangles.append(own + np.uint64(count))
        cell.append(np.full(len(own), c))
        ids.append(made.run_original_id)
        runs.append(np.diff(made.run_index) // 3)
        faces.append(made.face_id)
        merges.append(np.array([made.merge_from_vert, made.merge_to_vert], np.int64) + count)
        count += len(at)
    if not count:
        return np.zeros((0, 3)), np.zeros((0, 3), np.int64), *(np.zeros(0, np.int64),) * 2, np.zeros((0, 3, 2))
    rows, triangles = np.concatenate(rows), np.concatenate(triangles).astype(np.int64)
    merged, (source, to) = np.arange(count), np.concatenate(merges, axis=1)
    merged[source] = to
    stays = merged == np.arange(count)
    place = (np.cumsum(stays) - 1)[merged]
    of = np.repeat(np.concatenate(ids).astype(np.int64), np.concatenate(runs).astype(np.int64))
    face = np.where(of == number, np.concatenate(faces).astype(np.int64), INSIDE)
    return rows[stays, :3], place[triangles], np.concatenate(cell), face, rows[triangles][:, :, 3:]


def _corners(cell) -> np.ndarray:
    return cell.points if isinstance(cell, Closed) else cell


def _shape(m3, cell):
    """A cell, or several of them as one."""
    if isinstance(cell, list):
        return m3.Manifold.batch_boolean([_shape(m3, c) for c in cell if len(_corners(c)) >= 4], m3.OpType.Add)
    if isinstance(cell, Closed):
        return m3.Manifold(m3.Mesh64(cell.points, cell.triangles.astype(np.uint64)))
    return m3.Manifold.hull_points(cell)


def _together(done) -> Cuts:
    offsets = np.cumsum([0, *(len(points) for points, *_ in done)])
    points, triangles, cell, face, two = (np.concatenate(parts) for parts in zip(*done, strict=True))
    triangles = triangles + np.repeat(offsets[:-1], [len(t) for _, t, *_ in done])[:, None]
    return Cuts(points, triangles, cell, face, np.concatenate([1 - two.sum(axis=2, keepdims=True), two], axis=2))
