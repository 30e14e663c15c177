"""Poses of skeletons, and the small algebra of turns that they need.

A turn is a unit quaternion (x, y, z, w), as in glTF and SciPy. A joint stands within its parent: its matrix there is
translation @ turn @ stretch, and its matrix in the skeleton is the parent's times that (glTF 2.0, section 3.5).
"""

from typing import NamedTuple

import numpy as np
from numba import njit


class Pose(NamedTuple):
    """How n joints stand, each within its parent (or, without one, within the skeleton).

    place (n, 3) metres; turn (n, 4) unit quaternions x, y, z, w; stretch (n, 3) factors, negative where mirrored.
    """

    place: np.ndarray
    turn: np.ndarray
    stretch: np.ndarray

    @classmethod
    def still(cls, count: int) -> "Pose":
        turn = np.zeros((count, 4))
        turn[:, 3] = 1
        return cls(np.zeros((count, 3)), turn, np.ones((count, 3)))

    def copy(self) -> "Pose":
        return Pose(*(part.copy() for part in self))

    @classmethod
    def stacked(cls, poses) -> "Pose":
        """Several poses as one, (f, n, ...)."""
        return cls(*(np.stack(parts) for parts in zip(*poses, strict=True)))

    @property
    def matrices(self) -> np.ndarray:
        """(..., n, 4, 4) of each joint within its parent."""
        result = np.zeros((*self.place.shape[:-1], 4, 4))
        result[..., :3, :3] = turn_matrices(self.turn) * self.stretch[..., None, :]
        result[..., :3, 3], result[..., 3, 3] = self.place, 1
        return result


def in_skeleton(pose: Pose, parents: np.ndarray, order: np.ndarray) -> np.ndarray:
    """(..., n, 4, 4) of each joint in the skeleton's own space. `order` has parents before their children."""
    own = pose.matrices
    return _chained(own.reshape(-1, *own.shape[-3:]), parents, order).reshape(own.shape) if own.size else own


class Ring(ValueError):
    """Joints hang on one another in a ring; `at` is one of them, or hangs on one."""

    def __init__(self, at: int):
        super().__init__("joints hang on one another in a ring")
        self.at = at


def parents_first(parents: np.ndarray) -> np.ndarray:
    """(n,) the joints with parents (n,), -1 for a root, before their children, by how deep they hang. Raises Ring.

    Depths are summed up by doubling the steps upwards.
    """
    depth, above = (parents >= 0).astype(np.int64), parents.copy()
    for _ in range(max(len(parents), 1).bit_length() + 1):
        on = above >= 0
        depth[on] += depth[above[on]]
        above[on] = above[above[on]]
    if (above >= 0).any():
        raise Ring(int(np.argmax(above >= 0)))
    return np.argsort(depth, kind="stable")


def above_of(turn: np.ndarray, parents: np.ndarray) -> np.ndarray:
    """(m, 4) of turns (n, 4) those of what `parents` (m,) name; none for -1."""
    return np.where((parents >= 0)[:, None], turn[np.maximum(parents, 0)], [0.0, 0, 0, 1])


def ends_of(matrices: np.ndarray, ends: np.ndarray) -> np.ndarray:
    """(n, 3) where a point (n, 3) of each matrix (n, 4, 4) comes to."""
    return np.einsum("nij,nj->ni", matrices[:, :3, :3], ends) + matrices[:, :3, 3]


def pose_of(matrices: np.ndarray) -> Pose:
    """The pose whose matrices within the parents are these (n, 4, 4); shear, which a joint cannot have, is left out."""
    turn, stretch = split(matrices[:, :3, :3])
    return Pose(matrices[:, :3, 3].copy(), turn, stretch)


def split(linear: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """((n, 4) turns, (n, 3) stretches) of (n, 3, 3) matrices. A mirrored one has a negative stretch along X."""
    axes, stretch = _unit_axes(np.ascontiguousarray(linear))
    return turns_of(axes), stretch


def squared(axes: np.ndarray) -> np.ndarray:
    """(..., 3, 3) nearest right-handed rotations of matrices (the orthogonal polar factor)."""
    u, _, v = np.linalg.svd(axes)
    u[..., 2] *= np.sign(np.linalg.det(u @ v))[..., None]
    return u @ v


def turn_of(matrix: np.ndarray) -> np.ndarray:
    """(4,) how one matrix (4, 4) is turned."""
    return split(matrix[None, :3, :3])[0][0]


@njit(cache=True, nogil=True)
def _unit_axes(linear):
    """((n, 3, 3) right-handed axes, (n, 3) lengths): Y kept, Z as near as can be (Gram and Schmidt)."""
    axes, stretch = np.empty_like(linear), np.empty((len(linear), 3))
    for i in range(len(linear)):
        m = linear[i]
        for c in range(3):
            stretch[i, c] = np.sqrt(m[0, c] ** 2 + m[1, c] ** 2 + m[2, c] ** 2)
        y, z, x = m[:, 1].copy(), m[:, 2].copy(), m[:, 0].copy()
        if stretch[i, 1] > 1e-12:
            y /= stretch[i, 1]
        else:  # flat along Y: across the other two
            y = np.cross(z, x)
            far = np.sqrt((y * y).sum())
            y = y / far if far > 1e-24 else np.array([0.0, 1.0, 0.0])
        z -= y * (y * z).sum()
        far = np.sqrt((z * z).sum())
        if far < 1e-12:
            z = np.cross(x, y)
            far = np.sqrt((z * z).sum())
            if far < 1e-12:
                z = np.cross(np.array([1.0, 0.0, 0.0]) if abs(y[0]) < 0.9 else np.array([0.0, 0.0, 1.0]), y)
                far = np.sqrt((z * z).sum())
        z /= far
        axes[i, :, 1], axes[i, :, 2] = y, z
        across = np.cross(y, z)
        axes[i, :, 0] = across
        if (across * x).sum() < 0:
            stretch[i, 0] = -stretch[i, 0]
    return axes, stretch


@njit(cache=True, nogil=True)
def _chained(own, parents, order):
    result = np.empty_like(own)
    for f in range(len(own)):
        for i in order:
            p = parents[i]
            if p < 0:
                result[f, i] = own[f, i]
                continue
            for r in range(4):
                for c in range(4):
                    total = 0.0
                    for k in range(4):
                        total += result[f, p, r, k] * own[f, i, k, c]
                    result[f, i, r, c] = total
    return result


# -- turns -------------------------------------------------------------------------------------------------
def product(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    """(..., 4) the turn that is `b` first and then `a`, as matrices multiply."""
    # components one by one: of the few turns that are multiplied most often, moving axes and stacking took most time
    ax, ay, az, aw = a[..., 0], a[..., 1], a[..., 2], a[..., 3]
    bx, by, bz, bw = b[..., 0], b[..., 1], b[..., 2], b[..., 3]
    x = aw * bx + ax * bw + ay * bz - az * by
    found = np.empty((*x.shape, 4))
    found[..., 0] = x
    found[..., 1] = aw * by - ax * bz + ay * bw + az * bx
    found[..., 2] = aw * bz + ax * by - ay * bx + az * bw
    found[..., 3] = aw * bw - ax * bx - ay * by - az * bz
    return found


def inverse(turn: np.ndarray) -> np.ndarray:
    return turn * np.array([-1.0, -1.0, -1.0, 1.0])


def turned(turn: np.ndarray, vectors: np.ndarray) -> np.ndarray:
    """(..., 3) vectors turned."""
    x, y, z, w = turn[..., 0], turn[..., 1], turn[..., 2], turn[..., 3]
    a, b, c = vectors[..., 0], vectors[..., 1], vectors[..., 2]
    p, q, r = 2 * (y * c - z * b), 2 * (z * a - x * c), 2 * (x * b - y * a)
    along = a + w * p + (y * r - z * q)
    found = np.empty((*along.shape, 3))
    found[..., 0] = along
    found[..., 1] = b + w * q + (z * p - x * r)
    found[..., 2] = c + w * r + (x * q - y * p)
    return found


def turn_matrices(turn: np.ndarray) -> np.ndarray:
    """(..., 3, 3) of unit quaternions."""
    x, y, z, w = np.moveaxis(turn, -1, 0)
    rows = [
        [1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
        [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
        [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)],
    ]
    return np.stack([np.stack(row, axis=-1) for row in rows], axis=-2)


def turns_of(axes: np.ndarray) -> np.ndarray:
    """(n, 4) unit quaternions of (n, 3, 3) rotations (Shepperd 1978: divide by the largest of the four)."""
    m = np.asarray(axes, float)
    d = np.einsum("nii->ni", m)
    total = d.sum(axis=1)
    squares = np.concatenate([1 + 2 * d - total[:, None], 1 + total[:, None]], axis=1)  # 4 x each component squared
    best = squares.argmax(axis=1)
    q = np.empty((len(m), 4))
    a, b, c = m[:, 2, 1] - m[:, 1, 2], m[:, 0, 2] - m[:, 2, 0], m[:, 1, 0] - m[:, 0, 1]
    p, r, s = m[:, 1, 0] + m[:, 0, 1], m[:, 2, 0] + m[:, 0, 2], m[:, 2, 1] + m[:, 1, 2]
    for k, parts in enumerate(((0, p, r, a), (p, 0, s, b), (r, s, 0, c), (a, b, c, 0))):
        here = best == k
        for j, part in enumerate(parts):
            q[here, j] = squares[here, k] if j == k else part[here]
    return q / np.linalg.norm(q, axis=1, keepdims=True)


def turn_vectors(turn: np.ndarray) -> np.ndarray:
    """(..., 3) axis times angle in rad, at most half a turn."""
    turn = np.where(turn[..., 3:] < 0, -turn, turn)
    length = np.linalg.norm(turn[..., :3], axis=-1, keepdims=True)
    angle = 2 * np.arctan2(length, turn[..., 3:])
    return turn[..., :3] * np.where(length > 1e-9, angle / np.maximum(length, 1e-300), 2.0)


def from_vectors(vectors: np.ndarray) -> np.ndarray:
    """(..., 4) turns about the vectors by their length in rad."""
    angle = np.linalg.norm(vectors, axis=-1, keepdims=True)
    half = np.where(angle > 1e-9, np.sin(angle / 2) / np.maximum(angle, 1e-300), 0.5)
    return np.concatenate([vectors * half, np.cos(angle / 2)], axis=-1)


def between(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    """(..., 4) the least turns that bring directions a to directions b."""
    a = a / np.maximum(np.linalg.norm(a, axis=-1, keepdims=True), 1e-300)
    b = b / np.maximum(np.linalg.norm(b, axis=-1, keepdims=True), 1e-300)
    q = np.concatenate([np.cross(a, b), 1 + (a * b).sum(axis=-1, keepdims=True)], axis=-1)
    length = np.linalg.norm(q, axis=-1, keepdims=True)
    aside = np.where(np.abs(a[..., :1]) < 0.9, [1.0, 0, 0], [0.0, 1, 0])
    back = np.cross(a, aside)  # half a turn about any axis across
    back = np.concatenate([back / np.linalg.norm(back, axis=-1, keepdims=True), np.zeros_like(length)], axis=-1)
    return np.where(length > 1e-9, q / np.maximum(length, 1e-300), back)


def slerp(a: np.ndarray, b: np.ndarray, t) -> np.ndarray:
    """(..., 4) from a (t = 0) to b (t = 1) the shorter way round, at a constant rate (Shoemake 1985)."""
    t = np.asarray(t, float)[..., None]
    cosine = (a * b).sum(axis=-1, keepdims=True)
    b = np.where(cosine < 0, -b, b)
    angle = np.arccos(np.clip(np.abs(cosine), 0, 1))
    sine = np.sin(angle)
    near = sine < 1e-6
    safe = np.where(near, 1.0, sine)
    mix = np.where(near, 1 - t, np.sin((1 - t) * angle) / safe) * a + np.where(near, t, np.sin(t * angle) / safe) * b
    return mix / np.linalg.norm(mix, axis=-1, keepdims=True)


def from_euler(x, y, z) -> np.ndarray:
    """(k, 4) turns about X, then Y, then Z on turned axes, as the channels of what stands in a scene."""
    half = [np.asarray(a, float) / 2 for a in (x, y, z)]
    zero = np.zeros_like(half[0])
    parts = [
        np.stack([np.sin(h) if k == j else zero for k in range(3)] + [np.cos(h)], axis=-1) for j, h in enumerate(half)
    ]
    return product(product(parts[0], parts[1]), parts[2])


def to_euler(turns: np.ndarray, near: np.ndarray | None = None) -> np.ndarray:
    """(k, 3) rad about X, Y and Z on turned axes; a course of turns gives angles that do not jump.

    Of the ways to write a turn, the one nearest to the row before is taken (to `near` for the first row).
    """
    m = turn_matrices(turns)
    y = np.arcsin(np.clip(m[:, 0, 2], -1, 1))
    x, z = np.arctan2(-m[:, 1, 2], m[:, 2, 2]), np.arctan2(-m[:, 0, 1], m[:, 0, 0])
    lock = np.abs(m[:, 0, 2]) > 1 - 1e-10  # X and Z turn about one axis
    x[lock], z[lock] = np.arctan2(m[lock, 2, 1], m[lock, 1, 1]), 0.0
    before = np.zeros(3) if near is None else np.ascontiguousarray(near, float)
    return _course(x, y, z, np.sign(m[:, 0, 2]), lock, before)


@njit(cache=True, nogil=True)
def _course(x, y, z, side, lock, near):
    """Of the two ways to write each turn, and whole turns more or less, those that are nearest to the row before."""
    result = np.empty((len(x), 3))
    before = near.copy()
    for k in range(len(x)):
        best = np.inf
        for way in range(1 if lock[k] else 2):
            if lock[k]:  # keep Z as it was; X takes the rest
                a, b, c = x[k] - side[k] * before[2], y[k], before[2]
            elif way == 0:
                a, b, c = x[k], y[k], z[k]
            else:
                a, b, c = x[k] + np.pi, np.pi - y[k], z[k] + np.pi
            a += 2 * np.pi * np.round((before[0] - a) / (2 * np.pi))
            b += 2 * np.pi * np.round((before[1] - b) / (2 * np.pi))
            c += 2 * np.pi * np.round((before[2] - c) / (2 * np.pi))
            gap = abs(a - before[0]) + abs(b - before[1]) + abs(c - before[2])
            if gap < best:
                best = gap
                result[k, 0], result[k, 1], result[k, 2] = a, b, c
        before[0], before[1], before[2] = result[k, 0], result[k, 1], result[k, 2]
    return result


def facing(ahead: np.ndarray, bank: np.ndarray) -> np.ndarray:
    """(k, 3, 3) axes whose +Z is along `ahead` (k, 3) and whose +Y is upright but for a lean (k,) rad about it."""
    z = ahead / np.maximum(np.linalg.norm(ahead, axis=1, keepdims=True), 1e-12)
    z = np.where(np.abs(z).sum(axis=1, keepdims=True) > 0.5, z, [0.0, 0, 1])
    x = np.cross(np.where(np.abs(z[:, 1:2]) > 0.9999, [0.0, 0, 1], [0.0, 1, 0]), z)
    x /= np.linalg.norm(x, axis=1, keepdims=True)
    y = np.cross(z, x)
    c, s = np.cos(bank)[:, None], np.sin(bank)[:, None]
    return np.stack([c * x - s * y, s * x + c * y, z], axis=2)


def about_own_up(axes: np.ndarray, angle: np.ndarray) -> np.ndarray:
    """(k, 3, 3) axes turned about their own Y by angles (k,) rad."""
    c, s = np.cos(angle)[:, None], np.sin(angle)[:, None]
    x, y, z = axes.transpose(2, 0, 1)
    return np.stack([c * x - s * z, y, s * x + c * z], axis=2)
