"""What limbs are as solids: capsules that fill what each owns of a skin, and its mass by the volume of that."""

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from ...geometry.inside import is_inside
from ...geometry.mesh import Mesh, crossed
from ...geometry.pieces import Mass, is_closed, mass_of, together, volume_of
from ...hashing import digest
from ...lazy import spatial
from ...scene.bones import Bones

# a limb's radius as a share of its length, where no skin tells it: of a grown body, about; a hips as thin as its joint
# is short weighs so little between trunk and legs that no limit there holds
THICK = {"hips": 0.5, "spine": 0.42, "chest": 0.42, "neck": 0.5, "head": 0.38, "upper_arm": 0.17, "lower_arm": 0.14,
         "hand": 0.25, "thigh": 0.18, "shin": 0.13, "foot": 0.25}  # fmt: skip
PLAIN = 0.2
LEAST = 8  # vertices of a skin that tell a limb's shape
EDGES = (0.02, 0.98)  # shares of its vertices between which it is filled: a nail is no part of a hand
BESIDE, MOST_BESIDE = 1.45, 3  # times as wide as deep, from where on capsules lie side by side; how many at the most
SAMPLES = 50_000  # places inside a skin, by which volume is shared


class Capsules(NamedTuple):
    """Of one limb, in its joint's own space: a, b (c, 3) m, the ends of their middle lines; radius (c,) m."""

    a: np.ndarray
    b: np.ndarray
    radius: np.ndarray


@dataclass(frozen=True, eq=False)
class LimbSkin:
    """A skin that gives limbs their shape. mesh -- at rest; joint (n,) which joint of the skeleton each of its vertices
    follows most, -1 of none; back (j, 4, 4) from its space into each joint's, not numbers where it is not bound."""

    mesh: Mesh
    joint: np.ndarray
    back: np.ndarray

    @classmethod
    def of(cls, bones: Bones, mesh: Mesh, joints: list[str], back, indices, weights) -> "LimbSkin":
        """joints -- ids, in the order of `back` (b, 4, 4); indices, weights (n, m) of those."""
        where = np.array([bones.where.get(joint, -1) for joint in joints], np.int64)
        most = indices[np.arange(len(indices)), np.argmax(weights, axis=1)]
        every = np.full((len(bones), 4, 4), np.nan)
        every[where[where >= 0]] = back[where >= 0]
        return cls(mesh, where[most], every)

    @property
    def fingerprint(self) -> bytes:
        return self.mesh.cached(("limb skin", self.joint.tobytes()), lambda: digest(self.mesh.points, self.joint))


def owners_of(bones: Bones, joint: np.ndarray) -> np.ndarray:
    """(j,) which of the limbs (p,) each joint belongs to: itself, or the nearest that it hangs on; of those above all
    limbs the first one."""
    number, found = {int(j): k for k, j in enumerate(joint)}, np.full(len(bones), -1)
    for j in bones.order.tolist():
        above = found[bones.parents[j]] if bones.parents[j] >= 0 else -1
        found[j] = number.get(j, above)
    return np.where(found < 0, 0, found)


def shapes_of(bones: Bones, joint: np.ndarray, owner: np.ndarray, skin: LimbSkin | None, short: float):
    """(capsules, mass) of each limb (p,), in its joint's own space; owner (j,) the limb of each joint; short -- m, up
    to which a joint that is no limb is left out where no skin tells its shape."""
    plain = [_plain(bones, k, j, np.flatnonzero(owner == k), short) for k, j in enumerate(joint.tolist())]
    if skin is None:
        return [(own, _mass_of(own)) for own in plain]
    into = _into(bones, joint, owner, skin)
    limb = np.where(skin.joint >= 0, owner[skin.joint], -1)
    masses, areas = _masses(skin.mesh, limb, into), _areas(skin.mesh)
    found = []
    for k, own in enumerate(plain):
        mine = np.flatnonzero(limb == k)
        if len(mine) >= LEAST and into[k] is not None:
            own = fitted(_taken(skin.mesh.points[mine], into[k]), areas[mine])
        found.append((own, masses[k] or _mass_of(own)))
    return found


def _taken(points: np.ndarray, matrix: np.ndarray) -> np.ndarray:
    """(n, 3) m where a matrix (4, 4) takes points."""
    return points @ matrix[:3, :3].T + matrix[:3, 3]


def fitted(points: np.ndarray, area: np.ndarray) -> Capsules:
    """Capsules side by side that fill what is spread along its own axes (principal components of its surface).

    points (n, 3) m; area (n,) m2 of the surface about each
    """
    weight = area / max(area.sum(), 1e-300)
    middle = weight @ points
    away = points - middle
    axes = np.linalg.eigh((weight[:, None] * away).T @ away)[1][:, ::-1]  # the longest first
    along = away @ axes
    low, high = np.quantile(along, EDGES, axis=0)
    half = np.maximum((high - low) / 2, 1e-9)
    order = np.argsort(-half, kind="stable")
    axes, half, middle = axes[:, order], half[order], middle + axes @ ((low + high) / 2)
    count = int(np.clip(np.round(half[1] / half[2]), 1, MOST_BESIDE)) if half[1] > BESIDE * half[2] else 1
    radius = half[2] if count > 1 else (half[1] + half[2]) / 2
    straight = max(half[0] - radius, 0.0)
    aside = np.linspace(-1, 1, count) * (half[1] - radius) if count > 1 else np.zeros(1)
    centres = middle + aside[:, None] * axes[:, 1]
    return Capsules(centres - straight * axes[:, 0], centres + straight * axes[:, 0], np.full(count, radius))


def _plain(bones: Bones, k: int, limb: int, own: np.ndarray, short: float) -> Capsules:
    """A capsule along each joint of a limb, its round ends within the joint's length."""
    a: list[np.ndarray] = []
    b: list[np.ndarray] = []
    radius: list[float] = []
    share = THICK.get(bones.joints[limb].constant("part"), PLAIN)
    home = np.linalg.inv(bones.at_rest[limb])
    for j in own.tolist():
        long = float(np.linalg.norm(bones.tips[j]))
        if long < 1e-9 or (j != limb and bones.lengths[j] <= short):
            continue
        thick = min(share * long, 0.5 * long)
        local = home @ bones.at_rest[j]
        for ends, part in ((a, thick / long), (b, 1 - thick / long)):
            ends.append(local[:3, :3] @ (part * bones.tips[j]) + local[:3, 3])
        radius.append(thick * float(np.cbrt(abs(np.linalg.det(local[:3, :3])))))
    return Capsules(np.array(a), np.array(b), np.array(radius))


def _into(bones: Bones, joint: np.ndarray, owner: np.ndarray, skin: LimbSkin) -> list[np.ndarray | None]:
    """For each limb (4, 4) from the skin's space into its joint's; None where the skin is bound to nothing of it."""
    found = []
    for k, limb in enumerate(joint.tolist()):
        own = [limb, *np.flatnonzero(owner == k).tolist()]
        bound = next((j for j in own if np.isfinite(skin.back[j]).all()), None)
        home = np.linalg.inv(bones.at_rest[limb])
        found.append(None if bound is None else home @ bones.at_rest[bound] @ skin.back[bound])
    return found


def _masses(mesh: Mesh, limb: np.ndarray, into) -> list[Mass | None]:
    """The volume inside a closed skin, shared by which limb (n,) the nearest vertex is of; None without one."""
    none: list[Mass | None] = [None] * len(into)
    volume = volume_of(mesh.points, mesh.triangles) if is_closed(mesh.triangles) else 0.0
    if volume <= 0:
        return none
    cell = (volume / SAMPLES) ** (1 / 3)
    low, high = mesh.bounds
    axes = [np.arange(a + cell / 2, b, cell) for a, b in zip(low, high, strict=True)]
    places = np.stack(np.meshgrid(*axes, indexing="ij"), axis=-1).reshape(-1, 3)
    places = places[is_inside(mesh, places)]
    if not len(places):
        return none
    of = limb[spatial.cKDTree(mesh.points).query(places)[1]]
    each = volume / len(places)
    for k, matrix in enumerate(into):
        own = places[of == k]
        if matrix is not None and len(own) >= LEAST:
            local = _taken(own, matrix)
            size = abs(np.linalg.det(matrix[:3, :3]))
            away = local - local.mean(axis=0)
            second = each * size * (away.T @ away + len(own) * np.eye(3) * (cell * np.cbrt(size)) ** 2 / 12)
            inertia = np.trace(second) * np.eye(3) - second
            none[k] = Mass(each * size * len(own), local.mean(axis=0), inertia, True)
    return none


def _mass_of(capsules: Capsules) -> Mass:
    parts = []
    for a, b, radius in zip(*capsules, strict=True):
        points, triangles = capsule_mesh(a, b, radius)
        parts.append((mass_of(points, triangles), 1.0))
    return together(parts)


def _areas(mesh: Mesh) -> np.ndarray:
    """(n,) m2 of the surface about each vertex: a third of the triangles there."""
    area = np.linalg.norm(crossed(mesh.points[mesh.triangles]), axis=1) / 6
    return np.bincount(mesh.triangles.ravel(), area.repeat(3), mesh.count)


def capsule_mesh(a, b, radius: float, sides: int = 10, rings: int = 3) -> tuple[np.ndarray, np.ndarray]:
    """(points, triangles) of a capsule about the line from a to b (3,) m; of a ball where they are one."""
    long = float(np.linalg.norm(b - a))
    way = (b - a) / long if long > 1e-9 * radius else np.array([0.0, 1.0, 0.0])
    side = np.cross(way, np.eye(3)[np.argmin(np.abs(way))])
    side /= np.linalg.norm(side)
    up = np.cross(way, side)
    angle = np.linspace(0, np.pi / 2, rings + 1)[1:]
    low = [(-radius * np.cos(x), radius * np.sin(x)) for x in angle]
    line = low + [(long - y, r) for y, r in reversed(low)]
    round_ = 2 * np.pi * np.arange(sides) / sides
    ring = np.cos(round_)[:, None] * side + np.sin(round_)[:, None] * up
    ends = [a - radius * way], [a + y * way + r * ring for y, r in line], [b + radius * way]
    points = np.concatenate([ends[0], *ends[1], ends[2]])
    k, found = np.arange(sides), []
    after = (k + 1) % sides
    found.append(np.stack([np.zeros(sides, int), 1 + after, 1 + k], axis=1))
    for j in range(len(line) - 1):
        one, two = 1 + j * sides, 1 + (j + 1) * sides
        found += [np.stack([one + k, one + after, two + after], axis=1), np.stack([one + k, two + after, two + k], 1)]
    last = 1 + (len(line) - 1) * sides
    found.append(np.stack([np.full(sides, len(points) - 1), last + k, last + after], axis=1))
    triangles = np.concatenate(found)
    if volume_of(points - points.mean(axis=0), triangles) < 0:
        triangles = triangles[:, ::-1]
    return points, triangles
