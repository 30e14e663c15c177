"""What is under a pixel of a pane: vertices, things, the ground."""

import numpy as np

from ..facets import facet_of
from .render import Drawn


class Picking:
    """The part of a Viewport that finds what is under a pixel."""

    def ground_under(self, x, y) -> np.ndarray | None:
        """The point of the nearest mesh under a pixel, else of the floor."""
        surface = self.surface_under(x, y)
        if surface is not None:
            return surface
        eye, direction = self.camera.ray(x, y, self.width(), self.height())
        down = -eye[1] / direction[1] if abs(direction[1]) > 1e-6 else 0.0
        return eye + direction * down if down > 0 else None

    def surface_under(self, x, y) -> np.ndarray | None:
        """The point of the nearest mesh under a pixel."""
        eye, direction = self.camera.ray(x, y, self.width(), self.height())
        hits = self.depth_under(x, y)
        return eye + direction * hits[0] if hits else None

    def depth_under(self, x, y) -> list[float]:
        """Distances along the sight line at which it goes through meshes, nearest first."""
        eye, direction = self.camera.ray(x, y, self.width(), self.height())
        found = []
        for item in self.drawn():
            if item.stand is not None or item.opacity < 1:
                continue
            a, b, c = item.points[item.triangles].astype(float).transpose(1, 0, 2)
            e1, e2 = b - a, c - a
            h = np.cross(direction, e2)
            det = (e1 * h).sum(axis=1)
            with np.errstate(all="ignore"):  # Moeller and Trumbore 1997
                f, away = 1 / det, eye - a
                u = f * (away * h).sum(axis=1)
                q = np.cross(away, e1)
                v, t = f * (q @ direction), f * (e2 * q).sum(axis=1)
            hit = (np.abs(det) > 1e-14) & (u >= 0) & (v >= 0) & (u + v <= 1) & (t > 1e-6)
            found += t[hit].tolist()
        return sorted(found)

    def seen(self, subject) -> tuple[np.ndarray, np.ndarray]:
        """((n, 2) pixels, (n,) whether nothing stands before it) of a subject's vertices."""
        points = self.session.pictures.picture.shapes[subject.id].own
        pixels, depth = self.camera.project(points, self.width(), self.height())
        inside = (
            (depth > 0) & (depth < 1) & (pixels >= 0).all(axis=1) & (pixels < [self.width(), self.height()]).all(axis=1)
        )
        if self.look.shading == "none" or self.renderer is None:  # lines alone: everything is seen
            return pixels, inside
        buffer = self.renderer.depth(self.drawn(), self.camera, self.width(), self.height())
        x, y = pixels[inside].astype(int).T
        y = self.height() - 1 - y
        nearest = np.max(
            [
                buffer[np.clip(y + j, 0, buffer.shape[0] - 1), np.clip(x + i, 0, buffer.shape[1] - 1)]
                for i in (-1, 0, 1)
                for j in (-1, 0, 1)
            ],
            axis=0,
        )
        visible = inside.copy()
        visible[inside] = depth[inside] <= nearest + 2e-4 * (1 - depth[inside]) + 1e-6
        return pixels, visible

    def select_at(self, x, y):
        """Select the grip, zone, path, camera, subject or copies under a pixel."""
        s, view = self.session, self.view()
        placed = [t for t in s.doc.things if facet_of(t.declared).picked and t.id != self.look.camera]
        near = [(float(np.linalg.norm(view.at(self.place(t).origin[0]) - [x, y])), i) for i, t in enumerate(placed)]
        if near and min(near)[0] < 12 and self.look.controls:
            s.selection.select(placed[min(near)[1]].id)
            return
        joint = self.joint_under(x, y) if self.look.joints else None
        if joint is not None:
            s.selection.select(joint)
            return
        best, found = np.inf, None
        for item in self.drawn():
            hit = self._depth_under(item, x, y) if s.doc.find(item.id) is not None else None
            if hit is not None and hit < best:
                best, found = hit, item.id
        grain = self.grain_under(x, y)
        if grain is not None and found is None:
            s.selection.select(grain.swarm)
            s.view.pick(grain)
            return
        if s.view.picked is not None:
            s.view.pick(None)
        if found and not (s.selection.subject is not None and s.selection.subject.id == found):
            s.selection.select(found)

    def _depth_under(self, item: Drawn, x, y) -> float | None:
        """Depth of the nearest triangle of something drawn under a pixel."""
        best = None
        for stand in item.stand if item.stand is not None else [None]:
            points = item.points if stand is None else item.points @ stand[:3, :3].T + stand[:3, 3]
            pixels, depth = self.camera.project(points, self.width(), self.height())
            if stand is not None and not ((pixels.min(axis=0) <= [x, y]) & (pixels.max(axis=0) >= [x, y])).all():
                continue
            a, b, c = (pixels[item.triangles[:, i]] for i in range(3))
            p = np.array([x, y])
            cross = lambda u, v: u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0]
            s1, s2, s3 = cross(b - a, p - a), cross(c - b, p - b), cross(a - c, p - c)
            inside = ((s1 >= 0) & (s2 >= 0) & (s3 >= 0)) | ((s1 <= 0) & (s2 <= 0) & (s3 <= 0))
            near = depth[item.triangles[inside]]
            near = near[(near > 0).all(axis=1)]
            if len(near):
                here = float(near.mean(axis=1).min())
                best = here if best is None else min(best, here)
        return best
