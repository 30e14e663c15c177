"""What a layer of a skeleton is, and what it may read.

It gets the pose that enters and gives another one. What it names in space is a Place in the skeleton's own space; a
joint of the same skeleton is its number, since it is where the pose that enters puts it.
"""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from ..geometry.pose import Pose, in_skeleton
from ..kinds.channels import number
from ..scene.bones import Bones
from ..scene.parts import OnPart
from .layer import Layer, Resolved


@dataclass(frozen=True)
class PoseMoment:
    """When and on what a layer of a skeleton works."""

    frame: float
    rate: float  # frames a second
    bones: Bones
    feels: np.ndarray  # (n,) how much each joint feels of the layer: its strength times the joint's own influence
    entering: Callable[[float], Pose] | None = None  # the pose that enters at another frame


class PoseLayer(Layer, OnPart):
    """Base of the layers that move joints."""

    moves = "joints"
    own_first = True

    strength = number(1, "How much of the layer is felt.", unit="fraction", soft=(0, 1))

    @staticmethod
    def frames_read(v: Resolved, bones: Bones, frame: float) -> list[float]:
        """Other frames than the present one whose entering poses are read."""
        return []

    def pose(self, pose: Pose, v: Resolved, now: PoseMoment) -> Pose:
        """A new pose from the one that enters, which must not be changed."""
        raise NotImplementedError


class Walk:
    """Goes down a skeleton while joints are turned, so that each is worked out where its parents have been put."""

    def __init__(self, pose: Pose, bones: Bones):
        self.pose, self.bones = pose.copy(), bones
        self.at = in_skeleton(pose, bones.parents, bones.order)

    def above(self, joint: int) -> np.ndarray:
        """(4, 4) of what a joint hangs on."""
        parent = self.bones.parents[joint]
        return self.at[parent] if parent >= 0 else np.eye(4)

    def settle(self, joint: int) -> None:
        """Put a joint where its parent and its own part of the pose say."""
        own = Pose(*(part[joint : joint + 1] for part in self.pose)).matrices[0]
        self.at[joint] = self.above(joint) @ own

    def within(self, joint: int, point: np.ndarray) -> np.ndarray:
        """A point of the skeleton's space in that of what a joint hangs on; also under stretched and mirrored ones."""
        above = self.above(joint)
        linear = above[:3, :3]
        if abs(np.linalg.det(linear)) < 1e-18:  # something is scaled to nothing: no direction is any better
            return self.pose.place[joint]
        return np.linalg.solve(linear, point - above[:3, 3])


def point_of(target, at: np.ndarray) -> np.ndarray | None:
    """(3,) where a target is: a joint by its number in `at`, or a Place; None when nothing is named."""
    if target is None:
        return None
    return at[target][:3, 3] if isinstance(target, int) else target.origin[0]
