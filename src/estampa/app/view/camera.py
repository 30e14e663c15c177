"""A camera that turns about a point. Pure arithmetic."""

from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np

from ...geometry.place import Place

FIELD_OF_VIEW = np.radians(32)


@dataclass(frozen=True)
class Camera:
    """Looks at `target` (m) from `distance` (m), turned by yaw about +Y and raised by pitch (rad)."""

    target: np.ndarray = field(default_factory=lambda: np.array([0.0, 1.0, 0.0]))
    distance: float = 6.0
    yaw: float = np.radians(35)
    pitch: float = np.radians(14)
    view: float = FIELD_OF_VIEW  # angle of view from bottom to top, rad
    held: np.ndarray | None = None  # rows right, up, back of a camera in the scene that is looked through

    @classmethod
    def through(cls, place: Place, view: float, distance: float = 4.0) -> "Camera":
        """As a camera in the scene sees, along its -Z axis."""
        origin, axes, _ = place.at(0)
        return cls(origin - axes[:, 2] * distance, distance, view=view, held=axes.T)

    @cached_property
    def axes(self) -> np.ndarray:
        """Rows: right, up, back."""
        if self.held is not None:
            return self.held
        cy, sy, cp, sp = np.cos(self.yaw), np.sin(self.yaw), np.cos(self.pitch), np.sin(self.pitch)
        back = np.array([sy * cp, sp, cy * cp])
        right = np.array([cy, 0.0, -sy])
        return np.stack([right, np.cross(back, right), back])

    @property
    def eye(self) -> np.ndarray:
        return self.target + self.distance * self.axes[2]

    def matrix(self, aspect: float) -> np.ndarray:
        """(4, 4) from world to clip space, for column vectors."""
        kept = self.__dict__.setdefault("_matrices", {})
        if aspect not in kept:
            kept[aspect] = self._matrix(aspect)
        return kept[aspect]

    def _matrix(self, aspect):
        axes = self.axes
        view = np.eye(4)
        view[:3, :3] = axes
        view[:3, 3] = -axes @ self.eye
        near, far = self.distance * 0.02, self.distance * 60
        f = 1 / np.tan(self.view / 2)
        project = np.zeros((4, 4))
        project[0, 0], project[1, 1] = f / aspect, f
        project[2, 2], project[2, 3] = (far + near) / (near - far), 2 * far * near / (near - far)
        project[3, 2] = -1
        return project @ view

    def project(self, points: np.ndarray, width: int, height: int) -> tuple[np.ndarray, np.ndarray]:
        """((n, 2) pixels from the top left, (n,) depth in [0, 1]; outside that when not in view)."""
        clip = np.c_[points, np.ones(len(points))] @ self.matrix(width / height).T
        w = np.where(np.abs(clip[:, 3]) < 1e-12, 1e-12, clip[:, 3])
        x, y, z = (clip[:, :3] / w[:, None]).T
        depth = np.where(clip[:, 3] > 0, z * 0.5 + 0.5, -1.0)
        return np.stack([(x + 1) * 0.5 * width, (1 - y) * 0.5 * height], axis=1), depth

    def metres_per_pixel(self, height: int, at: np.ndarray | None = None) -> float:
        away = self.distance if at is None else max(float((self.eye - at) @ self.axes[2]), 1e-6)
        return 2 * away * np.tan(self.view / 2) / height

    def ray(self, x: float, y: float, width: int, height: int) -> tuple[np.ndarray, np.ndarray]:
        """(origin, unit direction) of the line of sight through a pixel."""
        t = np.tan(self.view / 2)
        local = np.array([(2 * x / width - 1) * t * width / height, (1 - 2 * y / height) * t, -1.0])
        direction = local @ self.axes
        return self.eye, direction / np.linalg.norm(direction)

    def orbited(self, dx: float, dy: float) -> "Camera":
        pitch = float(np.clip(self.pitch + dy * 0.008, -1.55, 1.55))
        return replace(self, yaw=self.yaw - dx * 0.008, pitch=pitch)

    def panned(self, dx: float, dy: float, height: int) -> "Camera":
        step = self.metres_per_pixel(height)
        right, up, _ = self.axes
        return replace(self, target=self.target - right * dx * step + up * dy * step)

    def zoomed(self, notches: float) -> "Camera":
        return replace(self, distance=float(np.clip(self.distance * 0.88**notches, 1e-4, 1e7)))

    def framing(self, points: np.ndarray, aspect: float, share: float = 0.9) -> "Camera":
        """The same view direction, near enough that (n, 3) points fill so much of the picture."""
        low, high = points.min(axis=0), points.max(axis=0)
        target = (low + high) / 2
        right, up, back = ((points - target) @ self.axes.T).T
        tan = np.tan(self.view / 2)
        needed = np.maximum(np.abs(right) / (tan * aspect), np.abs(up) / tan) / share + back
        return replace(self, target=target, distance=max(float(needed.max()), 1e-3))
