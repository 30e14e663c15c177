"""Limits of a ragdoll's joints in a pane: a cone across, a fan about, drawn and taken hold of."""

import numpy as np
from PySide6.QtGui import QPainter

from ...geometry import pose as turns
from . import marks

LONG = 0.8  # of the limb, how far its cone reaches
AHEAD, WIDE = 1.2, 0.3  # where the fan stands along the cone's axis, and its reach
TRIED = np.linspace(0, np.pi, 181)  # rad, angles among which the hand chooses
NEAR = 8  # pixels


class LimbLimits:
    """Of limb k, as its joints stand in a picture: where its cone and its fan are in the world."""

    def __init__(self, looked, limbs, k: int):
        joint = limbs.joint[k]
        world = looked.world[joint]
        self.joint, self.cone, self.twist = looked.bones.joints[joint], float(limbs.cone[k]), float(limbs.twist[k])
        above = turns.split(looked.world[limbs.joint[limbs.parent[k]], None, :3, :3])[0]
        stands = turns.product(turns.product(above, limbs.rest[k][None]), limbs.along[k][None])
        self.axes, self.hinge = turns.turn_matrices(stands)[0], world[:3, 3]
        self.long = LONG * float(np.linalg.norm(world[:3, :3] @ looked.bones.tips[joint]))
        own = turns.product(turns.split(world[None, :3, :3])[0], limbs.along[k][None])
        away = turns.product(turns.inverse(stands), own)[0]
        self.now = (2 * np.arctan2(away[0], away[3]) + np.pi) % (2 * np.pi) - np.pi

    def rim(self, cone, around) -> np.ndarray:
        """(..., 3) m on the cone's rim, so far open (rad), at angles around its axis (rad)."""
        c, a = np.broadcast_arrays(cone, around)
        local = np.stack([np.cos(c), np.sin(c) * np.cos(a), np.sin(c) * np.sin(a)], axis=-1)
        return self.hinge + self.long * local @ self.axes.T

    def fan(self, angles) -> np.ndarray:
        """(..., 3) m on the fan's edge; it stands across the limb as it is at rest."""
        a = np.asarray(angles)
        local = np.stack([np.full(a.shape, AHEAD), WIDE * np.cos(a), WIDE * np.sin(a)], axis=-1)
        return self.hinge + self.long * local @ self.axes.T

    def draw(self, painter: QPainter, view, hot: str) -> None:
        rim = self.rim(self.cone, np.linspace(-np.pi, np.pi, 33))
        marks.line(painter, view, rim, marks.AMBER, 3.0 if hot == "cone" else 1.8)
        for spoke in rim[:-1:4]:
            marks.line(painter, view, np.stack([self.hinge, spoke]), marks.AMBER, 0.8, halo=False)
        middle = self.hinge + self.long * AHEAD * self.axes[:, 0]
        fan = self.fan(np.linspace(-self.twist, self.twist, 17))
        wide = 2.6 if hot == "twist" else 1.4
        marks.line(painter, view, np.concatenate([middle[None], fan, middle[None]]), marks.PAPER, wide)
        marks.line(painter, view, np.stack([middle, self.fan(self.now)]), marks.AMBER, 2.4)
        if hot:
            words = f"{self.joint.name}: {'limit' if hot == 'cone' else 'twist'} {np.degrees(getattr(self, hot)):.0f}°"
            marks.name(painter, view, rim[8] if hot == "cone" else fan[0], words)

    def under(self, view, at) -> tuple[float, str, float]:
        """(pixels away, "cone" or "twist", where it is taken: the angle around the axis, or the side)."""
        around = np.linspace(-np.pi, np.pi, 73)
        gaps = _gaps(view, self.rim(self.cone, around), at)
        best = float(gaps.min()), "cone", float(around[gaps.argmin()])
        for side in (-1.0, 1.0):
            middle = self.hinge + self.long * AHEAD * self.axes[:, 0]
            edge = middle + np.linspace(0.3, 1, 9)[:, None] * (self.fan(side * self.twist) - middle)
            gap = float(_gaps(view, edge, at).min())
            if gap < best[0]:
                best = gap, "twist", side
        return best

    def dragged(self, view, which: str, where: float, at) -> float:
        """rad: the limit with which the place that was taken hold of comes nearest to a pixel."""
        line = self.rim(TRIED, where) if which == "cone" else self.fan(where * TRIED)
        return float(TRIED[_gaps(view, line, at).argmin()])


def _gaps(view, points, at) -> np.ndarray:
    """Pixels from each point to a pixel."""
    pixels, depth = view.camera.project(points, view.width, view.height)
    return np.where(depth > 0, np.linalg.norm(pixels - at, axis=1), np.inf)
