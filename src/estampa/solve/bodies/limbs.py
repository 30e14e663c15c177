"""Limbs: the bodies that a skeleton's joints are, and how they are tied to one another."""

from dataclasses import dataclass

import numpy as np

from ...geometry import pose as turns
from ...geometry.mesh import Mesh
from ...geometry.pieces import Pieces
from ...scene.bones import Bones

# a limb's radius as a share of its length, where no skin tells it: of a grown body, about; a hips as thin as its joint
# is short weighs so little between trunk and legs that no limit there holds
THICK = {"hips": 0.5, "spine": 0.42, "head": 0.38, "upper_arm": 0.17, "lower_arm": 0.14, "hand": 0.25, "thigh": 0.18,
         "shin": 0.13, "foot": 0.25}  # fmt: skip
PLAIN = 0.2
LEAST, MOST = 0.03, 0.45  # shares of its length between which a radius from a skin is kept
SHORT = 0.04  # of the whole height: joints shorter than this are no limbs, where none is named


@dataclass(frozen=True, eq=False)
class Limbs:
    """p limbs. joint (p,) of each; parent (p,) the limb that it hangs on, or -1; mesh -- all of them as pieces of one
    mesh, at rest in the skeleton's own space; local (n, 3) m its vertices within their joints; cone, twist (p,) rad how
    far each may turn away from its rest on its parent, across and about itself; rest (p, 4) its turn there, at rest;
    along (p, 4) what turns X along it; stiffness (p,) times that of the layer; radius (p,) m of its capsule,
    whose round ends lie within its length."""

    bones: Bones
    joint: np.ndarray
    parent: np.ndarray
    mesh: Mesh
    local: np.ndarray
    cone: np.ndarray
    twist: np.ndarray
    rest: np.ndarray
    along: np.ndarray
    stiffness: np.ndarray
    radius: np.ndarray

    def points(self, world: np.ndarray) -> np.ndarray:
        """(n, 3) m where the joints (j, 4, 4) take the vertices."""
        own = world[self.joint][self.mesh.pieces]
        return np.einsum("nij,nj->ni", own[:, :3, :3], self.local) + own[:, :3, 3]

    def ends(self, world: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """((p, 3) m, (p, 3) m, (p,) m): where the middle lines of their capsules begin and end, and the radii."""
        own, tip = world[self.joint], self.bones.tips[self.joint]
        inner = (self.radius / np.maximum(np.linalg.norm(tip, axis=1), 1e-12))[:, None]
        ends = (np.einsum("pij,pj->pi", own[:, :3, :3], tip * s) + own[:, :3, 3] for s in (inner, 1 - inner))
        return (*ends, self.radius * np.cbrt(np.abs(np.linalg.det(own[:, :3, :3]))))

    def stand(self, world: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """((p, 4) turns, (p, 3) m places) of the limbs' joints."""
        own = world[self.joint]
        return turns.split(own[:, :3, :3])[0], own[:, :3, 3]

    def volumes(self, points: np.ndarray | None = None) -> np.ndarray:
        """(p,) m3 of each, at rest, or at points (n, 3) m; of none that has no volume."""
        masses = Pieces.each(self.mesh).masses(self.mesh.points if points is None else points)
        return np.array([max(m.volume, 0.0) for m in masses])


def limbs_of(bones: Bones, radii: np.ndarray | None = None) -> Limbs:
    """The limbs of a skeleton: joints that were named as parts of a body, or all that are not short.

    radii (j,) m, as thick as a skin is about each joint; 0 where it tells nothing
    """
    key = ("limbs", None if radii is None else radii.tobytes())
    return bones.kept(key, lambda: _made(bones, radii))


def _made(bones: Bones, radii) -> Limbs:
    long = np.linalg.norm(bones.tips, axis=1)
    named = np.array([j.constant("part") != "none" for j in bones.joints], bool)
    if not named.any():
        at = bones.at_rest[:, :3, 3]
        named = bones.lengths > SHORT * max(float(np.ptp(at, axis=0).max(initial=0.0)), 1e-9)
    joint = np.array([i for i in bones.order if named[i] and long[i] > 1e-6], np.int64)
    number = {int(j): k for k, j in enumerate(joint)}
    parent = np.array([_limb_above(bones, int(j), number) for j in joint], np.int64)
    local, faces, pieces, count, radius = [], [], [], 0, np.zeros(len(joint))
    for k, j in enumerate(joint):
        thick = THICK.get(bones.joints[j].constant("part"), PLAIN) * long[j]
        if radii is not None and radii[j] > 0:
            thick = float(np.clip(radii[j], LEAST * long[j], MOST * long[j]))
        radius[k] = min(thick, 0.5 * long[j])
        points, triangles = _capsule(bones.tips[j], radius[k])
        local.append(points)
        faces.append(triangles + count)
        pieces.append(np.full(len(points), k))
        count += len(points)
    own = lambda name: np.array([bones.joints[j].constant(name) for j in joint], float)
    local = np.concatenate(local) if local else np.zeros((0, 3))
    faces = np.concatenate(faces) if faces else np.zeros((0, 3), np.int64)
    pieces = np.concatenate(pieces) if pieces else np.zeros(0, np.int64)
    rest = turns.split(bones.at_rest[:, :3, :3])[0]
    above = turns.above_of(rest[joint], parent) if len(joint) else np.zeros((0, 4))
    tips = bones.tips[joint] / np.maximum(long[joint], 1e-12)[:, None]
    along = turns.between(np.tile([1.0, 0, 0], (len(joint), 1)), tips)
    at = bones.at_rest[joint][pieces] if len(joint) else np.zeros((0, 4, 4))
    points = np.einsum("nij,nj->ni", at[:, :3, :3], local) + at[:, :3, 3]
    mesh = Mesh(points, np.full(len(faces), 3), faces.ravel(), pieces=pieces)
    relative = turns.product(turns.inverse(above), rest[joint])
    return Limbs(
        bones, joint, parent, mesh, local, own("cone"), own("twist"), relative, along, own("stiffness"), radius
    )


def _limb_above(bones, joint, number) -> int:
    at = int(bones.parents[joint])
    while at >= 0 and at not in number:
        at = int(bones.parents[at])
    return number.get(at, -1)


def _capsule(tip: np.ndarray, radius: float, sides: int = 10, rings: int = 3) -> tuple[np.ndarray, np.ndarray]:
    """(points, triangles) of a capsule from the origin to a tip, ends and all: its round ends lie within its length, so
    that limbs meet at their joints without being pushed apart."""
    long = float(np.linalg.norm(tip))
    way = tip / long
    side = np.cross(way, np.eye(3)[np.argmin(np.abs(way))])
    side /= np.linalg.norm(side)
    up = np.cross(way, side)
    angle = np.linspace(0, np.pi / 2, rings + 1)[1:]
    low = [(radius - radius * np.cos(a), radius * np.sin(a)) for a in angle]
    line = low + [(long - y, r) for y, r in reversed(low)]
    round_ = 2 * np.pi * np.arange(sides) / sides
    ring = np.cos(round_)[:, None] * side + np.sin(round_)[:, None] * up
    points = np.concatenate([[np.zeros(3)], *[y * way + r * ring for y, r in line], [tip]])
    k, found = np.arange(sides), []
    after = (k + 1) % sides
    found.append(np.stack([np.zeros(sides, int), 1 + after, 1 + k], axis=1))
    for j in range(len(line) - 1):
        a, b = 1 + j * sides, 1 + (j + 1) * sides
        found += [np.stack([a + k, a + after, b + after], axis=1), np.stack([a + k, b + after, b + k], axis=1)]
    last = 1 + (len(line) - 1) * sides
    found.append(np.stack([np.full(sides, len(points) - 1), last + k, last + after], axis=1))
    triangles = np.concatenate(found)
    a, b, c = (points[triangles[:, i]] for i in range(3))
    if np.einsum("ij,ij->", a - points.mean(axis=0), np.cross(b - points.mean(axis=0), c - points.mean(axis=0))) < 0:
        triangles = triangles[:, ::-1]
    return points, triangles


def skin_radii(bones: Bones, joints: list[str], back: np.ndarray, points: np.ndarray, indices, weights) -> np.ndarray:
    """(j,) m, how far from each joint's line half of the vertices lie that follow it most; 0 where none does.

    joints -- ids, in the order of `back` (b, 4, 4) from the skin's space into each; indices, weights (n, m)
    """
    found = np.zeros(len(bones))
    most = indices[np.arange(len(indices)), np.argmax(weights, axis=1)]
    for b, joint in enumerate(joints):
        own, where = points[most == b], bones.where.get(joint)
        if where is None or len(own) < 4:
            continue
        local = own @ back[b, :3, :3].T + back[b, :3, 3]
        way = bones.tips[where] / max(float(np.linalg.norm(bones.tips[where])), 1e-12)
        found[where] = float(np.median(np.linalg.norm(local - (local @ way)[:, None] * way, axis=1)))
    return found
