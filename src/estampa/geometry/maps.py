"""Weight maps: one float32 in [0, 1] per vertex, and the ways to make and change them."""

import numpy as np
from scipy.sparse import coo_matrix

from .mesh import Mesh


def changed(weights, chosen, how: str, amount: float) -> np.ndarray:
    """Set, add to or take from the weights of the chosen vertices; `how` is set, add or take."""
    result = np.array(weights, np.float32)
    if how == "set":
        result[chosen] = amount
    else:
        result[chosen] += amount if how == "add" else -amount
    return np.clip(result, 0, 1)


def gradient(points, start, end, weights=None, chosen=None) -> np.ndarray:
    """A straight gradient: 0 at `start`, 1 at `end`, held beyond; on the chosen vertices only when given.

    points -- (n, 3) metres; start, end -- (3,) metres. Where both are one point, all weigh 1.
    """
    axis = np.asarray(end, float) - start
    length2 = axis @ axis
    t = np.clip((points - start) @ axis / length2, 0, 1) if length2 > 0 else np.ones(len(points))
    if chosen is None:
        return t.astype(np.float32)
    result = np.array(weights, np.float32)
    result[chosen] = t[chosen]
    return result


def smoothed(mesh: Mesh, weights, chosen=None, rounds: int = 1) -> np.ndarray:
    """Each weight becomes the mean of itself and the mean of its neighbours, `rounds` times."""
    e = mesh.edges
    both = np.concatenate([e, e[:, ::-1]])
    graph = coo_matrix(
        (np.ones(len(both), np.float32), (both[:, 0], both[:, 1])), shape=(mesh.count, mesh.count)
    ).tocsr()
    degree = np.asarray(graph.sum(axis=1)).ravel()
    result = np.array(weights, np.float32)
    for _ in range(rounds):
        mean = np.where(degree > 0, (graph @ result) / np.maximum(degree, 1), result)
        blend = (0.5 * (result + mean)).astype(np.float32)
        result = blend if chosen is None else np.where(chosen, blend, result).astype(np.float32)
    return result


def inverted(weights, chosen=None) -> np.ndarray:
    flipped = (1 - np.asarray(weights, np.float32)).astype(np.float32)
    return flipped if chosen is None else np.where(chosen, flipped, weights).astype(np.float32)


def uncovered(count: int, maps: list[np.ndarray]) -> np.ndarray:
    """(n,) bool: vertices that no map covers, i.e. whose weight is 0 in every map."""
    covered = np.zeros(count, bool)
    for weights in maps:
        covered |= weights > 0
    return ~covered


def islands_of(mesh: Mesh, chosen) -> np.ndarray:
    """(n,) bool: every vertex of the connected parts that hold a chosen vertex."""
    return np.isin(mesh.islands, np.unique(mesh.islands[chosen]))
