"""Limbs: the bodies that a skeleton's joints are, and how they are tied to one another."""

from dataclasses import dataclass

import numpy as np

from ...geometry import pose as turns
from ...geometry.mesh import Mesh
from ...geometry.pieces import Mass
from ...scene.bones import Bones
from .limb_shapes import LimbSkin, capsule_mesh, owners_of, shapes_of

SHORT = 0.04  # of the whole height: joints shorter than this are no limbs, where none is named
PLAY = 0.035  # rad, by which a hinge gives way to the side: one that gives by nothing shakes


@dataclass(frozen=True, eq=False)
class Limbs:
    """p limbs. joint (p,) of each; parent (p,) the limb that it hangs on, or -1; mesh -- all of them as pieces of one
    mesh, at rest in the skeleton's own space; local (n, 3) m its vertices within their joints.

    cone, twist (p,) rad how far each may turn away from the middle of its reach on its parent, across and about an
    axis: itself, or that of its hinge; rest (p, 4) its turn in the middle of its reach; along (p, 4) what turns X along
    that axis; is_hinge (p,) bool; stiffness (p,) times that of the layer.

    capsule_of (c,) which limb each capsule fills; ends (c, 2, 3) m of its middle line, in the limb's joint; radius (c,)
    m; solids -- their masses at a density of 1 kg/m3, in their joints.
    """

    bones: Bones
    joint: np.ndarray
    parent: np.ndarray
    mesh: Mesh
    local: np.ndarray
    cone: np.ndarray
    twist: np.ndarray
    rest: np.ndarray
    along: np.ndarray
    is_hinge: np.ndarray
    stiffness: np.ndarray
    capsule_of: np.ndarray
    ends: np.ndarray
    radius: np.ndarray
    solids: tuple[Mass, ...]

    def points(self, world: np.ndarray) -> np.ndarray:
        """(n, 3) m where the joints (j, 4, 4) take the vertices."""
        own = world[self.joint][self.mesh.pieces]
        return np.einsum("nij,nj->ni", own[:, :3, :3], self.local) + own[:, :3, 3]

    def capsules(self, world: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """((c, 3) m, (c, 3) m, (c,) m): where the middle lines of their capsules begin and end, and the radii."""
        own = world[self.joint][self.capsule_of]
        a, b = (np.einsum("cij,cj->ci", own[:, :3, :3], self.ends[:, k]) + own[:, :3, 3] for k in range(2))
        return a, b, self.radius * np.cbrt(np.abs(np.linalg.det(own[:, :3, :3])))

    def stand(self, world: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """((p, 4) turns, (p, 3) m places) of the limbs' joints."""
        own = world[self.joint]
        return turns.split(own[:, :3, :3])[0], own[:, :3, 3]

    def masses(self, world: np.ndarray | None = None) -> list[Mass]:
        """Of each, where the joints (j, 4, 4) stand; or at rest."""
        found = []
        for own, solid in zip((self.bones.at_rest if world is None else world)[self.joint], self.solids, strict=True):
            size = float(np.cbrt(abs(np.linalg.det(own[:3, :3]))))
            axes = turns.turn_matrices(turns.split(own[None, :3, :3])[0])[0]
            centre = own[:3, :3] @ solid.centre + own[:3, 3]
            found.append(Mass(solid.volume * size**3, centre, size**5 * axes @ solid.inertia @ axes.T, solid.closed))
        return found

    def volumes(self, world: np.ndarray | None = None) -> np.ndarray:
        """(p,) m3 of each, where the joints (j, 4, 4) stand; or at rest."""
        return np.array([m.volume for m in self.masses(world)])


def limbs_of(bones: Bones, skin: LimbSkin | None = None) -> Limbs:
    """The limbs of a skeleton: joints that were named as parts of a body, or all that are not short. Joints between
    them belong to the limb that they hang on. skin -- gives them their shapes and masses"""
    return bones.kept(("limbs", skin and skin.fingerprint), lambda: _made(bones, skin))


def _made(bones: Bones, skin: LimbSkin | None) -> Limbs:
    long = np.linalg.norm(bones.tips, axis=1)
    named = np.array([j.constant("part") != "none" for j in bones.joints], bool)
    at = bones.at_rest[:, :3, 3]
    short = SHORT * max(float(np.ptp(at, axis=0).max(initial=0.0)), 1e-9)
    if not named.any():
        named = bones.lengths > short
    joint = np.array([i for i in bones.order if named[i] and long[i] > 1e-6], np.int64)
    number = {int(j): k for k, j in enumerate(joint)}
    parent = np.array([_limb_above(bones, int(j), number) for j in joint], np.int64)
    shapes = shapes_of(bones, joint, owners_of(bones, joint), skin, short) if len(joint) else []
    local, faces, pieces, count = [np.zeros((0, 3))], [np.zeros((0, 3), np.int64)], [np.zeros(0, np.int64)], 0
    for k, (capsules, _) in enumerate(shapes):
        for a, b, radius in zip(*capsules, strict=True):
            points, triangles = capsule_mesh(a, b, radius)
            local.append(points)
            faces.append(triangles + count)
            pieces.append(np.full(len(points), k))
            count += len(points)
    local, faces, pieces = np.concatenate(local), np.concatenate(faces), np.concatenate(pieces)
    at = bones.at_rest[joint][pieces] if len(joint) else np.zeros((0, 4, 4))
    points = np.einsum("nij,nj->ni", at[:, :3, :3], local) + at[:, :3, 3]
    mesh = Mesh(points, np.full(len(faces), 3), faces.ravel(), pieces=pieces)
    ends = [np.stack([c.a, c.b], axis=1) for c, _ in shapes]
    return Limbs(
        bones, joint, parent, mesh, local, *_reach(bones, joint, parent),
        np.array([bones.joints[j].constant("stiffness") for j in joint], float),
        np.repeat(np.arange(len(joint)), [len(e) for e in ends]), np.concatenate([np.zeros((0, 2, 3)), *ends]),
        np.concatenate([np.zeros(0), *(c.radius for c, _ in shapes)]), tuple(m for _, m in shapes),
    )  # fmt: skip


def _reach(bones: Bones, joint: np.ndarray, parent: np.ndarray) -> tuple:
    """(cone, twist, rest, along, is_hinge) of limbs, as Limbs has them."""
    own = lambda name: np.array([bones.joints[j].constant(name) for j in joint], float)
    turn = turns.split(bones.at_rest[:, :3, :3])[0]
    above = turns.above_of(turn[joint], parent) if len(joint) else np.zeros((0, 4))
    rest = turns.product(turns.inverse(above), turn[joint])
    long = np.linalg.norm(bones.tips[joint], axis=1)
    x = np.tile([1.0, 0, 0], (len(joint), 1))
    along = turns.between(x, bones.tips[joint] / np.maximum(long, 1e-12)[:, None])
    is_hinge = np.array([bones.joints[j].constant("bends") == "hinge" for j in joint], bool) & (parent >= 0)
    if not is_hinge.any():
        return own("cone"), own("twist"), rest, along, is_hinge
    axis = hinge_axes(bones, joint)
    far, back = own("bend_far"), own("bend_back")
    middle = turns.from_vectors(axis * ((far - back) / 2)[:, None])
    pick = lambda a, b: np.where(is_hinge[:, None], a, b)
    return (
        np.where(is_hinge, PLAY, own("cone")), np.where(is_hinge, np.maximum(far + back, 0) / 2, own("twist")),
        pick(turns.product(rest, middle), rest), pick(turns.between(x, axis), along), is_hinge,
    )  # fmt: skip


def hinge_axes(bones: Bones, joint: np.ndarray) -> np.ndarray:
    """(p, 3) units in the joints' own space: across each, turned about it from its own X (Z, where it lies along X)."""
    found = np.empty((len(joint), 3))
    for k, j in enumerate(joint):
        way = bones.tips[j] / max(float(np.linalg.norm(bones.tips[j])), 1e-12)
        first = across(way)
        angle = bones.joints[j].constant("bend_about")
        found[k] = np.cos(angle) * first + np.sin(angle) * np.cross(way, first)
    return found


def across(way: np.ndarray) -> np.ndarray:
    """(3,) a unit across a unit: X, or Z where it lies along X, less what of it lies along."""
    first = np.eye(3)[0 if abs(way[0]) < 0.9 else 2]
    first = first - (first @ way) * way
    return first / np.linalg.norm(first)


def _limb_above(bones: Bones, joint: int, number: dict[int, int]) -> int:
    at = int(bones.parents[joint])
    while at >= 0 and at not in number:
        at = int(bones.parents[at])
    return number.get(at, -1)
