"""In which order constraints are solved, so that threads never meet and the result never depends on them.

Vertices are renumbered so that neighbours are close (reverse Cuthill-McKee). The line of vertices is cut
into blocks; constraints inside one block are solved by one thread, all blocks at once. Those across a cut are
solved next, in blocks that are shifted by half; the few that are left come last, alone. The cuts depend on
the mesh only. Within a block, constraints are ordered by colour: neighbours in that order share no vertex,
which keeps the processor's pipeline full.
"""

from typing import NamedTuple

import numpy as np
from numba import njit
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import reverse_cuthill_mckee

BLOCK = 600  # vertices
MOST_BLOCKS = 16


class Schedule(NamedTuple):
    """spans (s, 2): first and one past the last constraint of each block; phases (4,): first span of each phase.

    Every schedule on the same number of vertices has the same phases."""

    spans: np.ndarray
    phases: np.ndarray


def vertex_order(count: int, edges: np.ndarray) -> np.ndarray:
    """(n,) vertices in an order that keeps neighbours close."""
    ones = np.ones(len(edges), np.int8)
    graph = coo_matrix((ones, (edges[:, 0], edges[:, 1])), shape=(count, count)).tocsr()
    return reverse_cuthill_mckee((graph + graph.T).tocsr(), symmetric_mode=True).astype(np.int64)


def _cuts(count: int) -> tuple[int, int]:
    """(blocks, vertices in each)."""
    blocks = int(np.clip(count // BLOCK, 1, MOST_BLOCKS))
    return blocks, -(-count // blocks)


def block_vertices(count: int) -> np.ndarray:
    """(s, 2) first and one past the last vertex of each span; the last span, of what crosses every cut, has all."""
    blocks, width = _cuts(count)
    plain = np.arange(blocks + 1) * width
    shifted = np.arange(blocks + 2) * width - width // 2
    spans = [*zip(plain[:-1], plain[1:], strict=True), *zip(shifted[:-1], shifted[1:], strict=True), (0, count)]
    return np.clip(np.array(spans, np.int64), 0, count)


def schedule(members: np.ndarray, count: int) -> tuple[np.ndarray, Schedule]:
    """(order of the constraints (m,), their schedule) for constraints on vertices `members` (m, k)."""
    blocks, width = _cuts(count)
    low, high = members.min(axis=1, initial=count), members.max(axis=1, initial=0)
    plain, shifted = low // width, (low + width // 2) // width
    in_plain = plain == high // width
    in_shifted = shifted == (high + width // 2) // width
    # spans: `blocks` plain ones, `blocks + 1` shifted ones, one for the rest
    span = np.where(in_plain, plain, np.where(in_shifted, blocks + shifted, 2 * blocks + 1))
    colours = _colours(np.ascontiguousarray(members, np.int64), np.argsort(low, kind="stable"), count)
    order = np.lexsort((low, colours, span))
    edges = np.searchsorted(span[order], np.arange(2 * blocks + 3))
    spans = np.stack([edges[:-1], edges[1:]], axis=1).astype(np.int64)
    return order, Schedule(spans, np.array([0, blocks, 2 * blocks + 1, 2 * blocks + 2], np.int64))


@njit(cache=True)
def _colours(members, order, count):
    used = np.zeros(count, np.uint64)  # a bit for each colour that a vertex already has
    colours = np.zeros(len(members), np.int64)
    for c in order:
        taken = np.uint64(0)
        for v in members[c]:
            taken |= used[v]
        colour = 0
        while colour < 63 and (taken >> np.uint64(colour)) & np.uint64(1):
            colour += 1
        for v in members[c]:
            used[v] |= np.uint64(1) << np.uint64(colour)
        colours[c] = colour
    return colours
