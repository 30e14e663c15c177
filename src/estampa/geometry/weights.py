"""Weights of joints on a mesh: heat diffusion, nearest segments, and the table of the few largest of each vertex."""

from concurrent.futures import ThreadPoolExecutor

import numpy as np
from numba import njit, prange
from scipy.sparse import coo_matrix, csc_matrix, diags
from scipy.sparse.csgraph import connected_components
from scipy.sparse.linalg import splu

from .mesh import Mesh
from .triangle_grid import Grid, crosses

EQUAL = 1.0001  # times the least distance that counts as the same (the published method's tolerance)
LEAST = 1e-3  # weights below this are dropped before the rest is normalised


def top_influences(dense: np.ndarray, most: int) -> tuple[np.ndarray, np.ndarray]:
    """((n, m) int32 joints, (n, m) float32 weights) of the largest weights (n, j) of each vertex; rows sum to 1.

    A vertex without any weight follows joint 0 of its row; give it one before (see `nearest`).
    """
    most = min(most, dense.shape[1])
    indices = np.argsort(-dense, axis=1, kind="stable")[:, :most]
    weights = np.take_along_axis(np.maximum(dense, 0), indices, axis=1)
    weights[weights < LEAST * weights[:, :1]] = 0
    total = weights.sum(axis=1, keepdims=True)
    weights = np.where(total > 0, weights / np.where(total > 0, total, 1), 0)
    weights[total[:, 0] <= 0, 0] = 1
    return indices.astype(np.int32), weights.astype(np.float32)


def spread(indices: np.ndarray, weights: np.ndarray, joints: int) -> np.ndarray:
    """(n, joints) float64 weights of a table."""
    dense = np.zeros((len(indices), joints))
    np.add.at(dense, (np.arange(len(indices))[:, None], indices), weights)
    return dense


def distances(points: np.ndarray, starts: np.ndarray, ends: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """((n, s) metres from points to segments, (n, s, 3) the nearest points on them)."""
    along = ends - starts
    length2 = np.maximum((along**2).sum(axis=1), 1e-300)
    t = np.clip(np.einsum("nsj,sj->ns", points[:, None] - starts, along) / length2, 0, 1)
    near = starts + t[..., None] * along
    return np.linalg.norm(points[:, None] - near, axis=2), near


def by_joint(per_segment: np.ndarray, joint_of: np.ndarray, joints: int, pick=np.minimum) -> np.ndarray:
    """(n, joints) the least (or `pick`) of what each joint's segments have (n, s)."""
    worst = np.inf if pick is np.minimum else 0.0
    result = np.full((len(per_segment), joints), worst)
    for s, j in enumerate(joint_of):
        result[:, j] = pick(result[:, j], per_segment[:, s])
    return result


def nearest(mesh: Mesh, starts, ends, joint_of, joints: int, sharpness: float = 4.0) -> np.ndarray:
    """(n, joints) weights that fall with the distance from each joint's segments to a power; rows sum to 1.

    For meshes of loose planes, where nothing can be diffused.
    """
    result = np.empty((mesh.count, joints))
    for first in range(0, mesh.count, 20_000):  # so that memory stays small
        part = slice(first, first + 20_000)
        apart = by_joint(distances(mesh.points[part], starts, ends)[0], joint_of, joints)
        closest = np.maximum(apart.min(axis=1, keepdims=True), 1e-9)
        result[part] = (closest / np.maximum(apart, 1e-9)) ** sharpness
    return result / result.sum(axis=1, keepdims=True)


def diffused(mesh: Mesh, starts, ends, joint_of, joints: int) -> tuple[np.ndarray, np.ndarray]:
    """((n, joints) weights by heat diffusion, (n,) whether a vertex could not be reached by heat).

    Baran and Popovic 2007, "Automatic rigging and animation of 3D characters", section 4: each joint in turn is held at
    1 degree and the others at 0; the surface is heated by the nearest joint that it sees, by 1 / distance^2, and
    conducts along itself: (-laplacian + H) w = H p. A part of the mesh none of whose vertices sees a joint has no heat;
    its vertices take the weights of the nearest segments instead.
    """
    share, distance, seen = seen_joints(mesh, starts, ends, joint_of, joints)
    heat = np.where(seen, 1 / np.maximum(distance, 1e-6 * float(np.linalg.norm(mesh.size) or 1)) ** 2, 0.0)
    system, area = heat_system(mesh, heat)
    _, part = connected_components(system, directed=False)
    warm = np.zeros(part.max() + 1, bool)
    warm[part[seen]] = True
    cold = ~warm[part]
    if cold.any():  # keep the system regular; these rows are replaced
        system = system + diags(np.where(cold, area, 0.0))
    source = share * (heat * area)[:, None]
    factors = splu(csc_matrix(system), permc_spec="MMD_AT_PLUS_A", options={"SymmetricMode": True})
    halves = [np.asfortranarray(half) for half in np.array_split(source, 2, axis=1) if half.shape[1]]
    with ThreadPoolExecutor(2) as pool:  # the solve lets go of the interpreter
        found = np.concatenate(list(pool.map(factors.solve, halves)), axis=1)
    found = np.clip(found, 0, 1)
    if cold.any():
        found[cold] = nearest(mesh, starts, ends, joint_of, joints)[cold]
    total = found.sum(axis=1, keepdims=True)
    return found / np.where(total > 0, total, 1), cold


def heat_system(mesh: Mesh, heat: np.ndarray) -> tuple[csc_matrix, np.ndarray]:
    """(the symmetric (n, n) matrix of diffusion with heat (n,) in 1/m2, (n,) vertex areas in m2).

    Cotangent weights (Pinkall and Polthier 1993); an obtuse corner's negative weight is raised to 0, so that no weight
    leaves [0, 1].
    """
    t, p = mesh.triangles, mesh.points
    area = np.zeros(mesh.count)
    rows, columns, weights = [], [], []
    cross = np.linalg.norm(np.cross(p[t[:, 1]] - p[t[:, 0]], p[t[:, 2]] - p[t[:, 0]]), axis=1)
    for k in range(3):
        a, b, c = t[:, k], t[:, (k + 1) % 3], t[:, (k + 2) % 3]
        dot = ((p[b] - p[a]) * (p[c] - p[a])).sum(axis=1)
        cotangent = np.clip(0.5 * dot / np.maximum(cross, 1e-300), 0, 1e4)
        rows += [b, c]
        columns += [c, b]
        weights += [cotangent, cotangent]
        area += np.bincount(a, cross / 6, minlength=mesh.count)
    area = np.maximum(area, 1e-12 * max(float(area.max(initial=0)), 1e-12))
    flat = (np.concatenate(weights), (np.concatenate(rows), np.concatenate(columns)))
    between = coo_matrix(flat, shape=(mesh.count, mesh.count)).tocsc()
    out = np.asarray(between.sum(axis=1)).ravel()
    return (diags(out + heat * area) - between).tocsc(), area


def seen_joints(mesh: Mesh, starts, ends, joint_of, joints: int):
    """((n, joints) which joint is the nearest that each vertex sees, (n,) its distance, (n,) whether it sees any).

    Joints that are equally near share a vertex, so that rows sum to 1. One that sees none is given the nearest of all.
    """
    n = mesh.count
    share, distance, seen = np.zeros((n, joints)), np.zeros(n), np.zeros(n, bool)
    grid = Grid(mesh.points, mesh.triangles)
    normals = mesh.normals(mesh.points)
    shell = 1e-3 * float(np.linalg.norm(mesh.size) or 1)
    _seen(mesh.points, normals, starts, ends, np.asarray(joint_of), shell, share, distance, seen, *grid.parts)
    return share, distance, seen


@njit(parallel=True, cache=True, nogil=True)
def _seen(
    points, normals, starts, ends, joint_of, shell, share, distance, seen, corners, low, cell, counts, firsts, members
):
    segments = len(starts)
    for i in prange(len(points)):
        far, best = np.empty(segments), np.empty((4, 3))
        order = np.full(4, -1)
        for s in range(segments):
            a0, a1, a2 = starts[s, 0], starts[s, 1], starts[s, 2]
            d0, d1, d2 = ends[s, 0] - a0, ends[s, 1] - a1, ends[s, 2] - a2
            p0, p1, p2 = points[i, 0] - a0, points[i, 1] - a1, points[i, 2] - a2
            t = (p0 * d0 + p1 * d1 + p2 * d2) / max(d0 * d0 + d1 * d1 + d2 * d2, 1e-300)
            t = min(max(t, 0.0), 1.0)
            p0, p1, p2 = p0 - t * d0, p1 - t * d1, p2 - t * d2
            far[s] = np.sqrt(p0 * p0 + p1 * p1 + p2 * p2)
            k = 3  # keep the four nearest in order; further ones would hardly be felt
            while k >= 0 and (order[k] < 0 or far[s] < far[order[k]]):
                if k < 3:
                    order[k + 1] = order[k]
                    best[k + 1] = best[k]
                order[k] = s
                best[k, 0], best[k, 1], best[k, 2] = a0 + t * d0, a1 + t * d1, a2 + t * d2
                k -= 1
        chosen = order[0]
        step = min(shell, 0.2 * far[chosen])
        inside = points[i] - normals[i] * step
        for k in range(4):
            if order[k] >= 0 and not crosses(inside, best[k], corners, low, cell, counts, firsts, members):
                chosen, seen[i] = order[k], True
                break
        distance[i] = far[chosen]
        total = 0.0
        for s in range(segments):  # those that are as near share it
            if far[s] <= far[chosen] * EQUAL and share[i, joint_of[s]] == 0:
                share[i, joint_of[s]] = 1.0
                total += 1.0
        for s in range(segments):
            if far[s] <= far[chosen] * EQUAL and share[i, joint_of[s]] == 1.0 and total > 1:
                share[i, joint_of[s]] = 1.0 / total


# -- by hand -------------------------------------------------------------------------------------------------
def given(dense: np.ndarray, joint: int, wanted: np.ndarray, locked=(), heir: int | None = None) -> np.ndarray:
    """Weights (n, j) with those of one joint as `wanted` (n,): the others give or take the rest in proportion, but for
    the locked ones; where none of them is felt, the heir takes it. Rows go on summing to 1."""
    result = dense.copy()
    kept = [k for k in locked if k != joint]
    if joint in locked:
        return result
    free = np.ones(dense.shape[1], bool)
    free[[joint, *kept]] = False
    held = result[:, kept].sum(axis=1)
    wanted = np.clip(wanted, 0, 1 - held)
    others = result[:, free].sum(axis=1)
    left = 1 - held - wanted
    times = np.where(others > 1e-9, left / np.where(others > 1e-9, others, 1), 0)
    result[:, free] *= times[:, None]
    alone = others <= 1e-9
    if heir is not None and heir != joint and heir not in kept:
        result[alone, heir] = left[alone]
        alone = alone & False
    result[:, joint] = np.where(alone, 1 - held, wanted)  # with nobody to take the rest, it keeps all
    return result


def painted(dense, joint: int, how: str, felt: np.ndarray, mesh: Mesh, locked=(), heir: int | None = None):
    """Weights (n, j) after a dab of the brush. how -- add, take, set (towards 1) or smooth; felt (n,) in 0 to 1."""
    now = dense[:, joint]
    if how == "smooth":
        e = mesh.edges
        degree = np.bincount(e.ravel(), minlength=mesh.count)
        total = np.bincount(e[:, 0], now[e[:, 1]], minlength=mesh.count)
        total += np.bincount(e[:, 1], now[e[:, 0]], minlength=mesh.count)
        mean = np.where(degree > 0, total / np.maximum(degree, 1), now)
        wanted = now + felt * (mean - now)
    else:
        wanted = {"add": now + 0.25 * felt, "take": now - 0.25 * felt, "set": now + felt * (1 - now)}[how]
    return np.where((felt > 0)[:, None], given(dense, joint, wanted, locked, heir), dense)


def jumps(mesh: Mesh, dense: np.ndarray) -> np.ndarray:
    """(e,) how much the weights differ between the ends of each edge: 0 not at all, 1 wholly."""
    e = mesh.edges
    return 0.5 * np.abs(dense[e[:, 0]] - dense[e[:, 1]]).sum(axis=1)
