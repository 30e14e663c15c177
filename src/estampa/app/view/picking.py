"""What is under a pixel of a pane: vertices, things, the ground; and the tools that ask for it."""

import numpy as np

from ... import edits as do
from ...geometry import maps
from .render import Drawn

REACH = 14  # pixels within which a vertex is picked


class Picking:
    """The part of a Viewport that finds what is under a pixel."""

    def _place_at(self, x, y):
        """Put a point of the selected path, or a copy made by hand, where the mesh or the floor is clicked."""
        s, thing = self.session, self.session.thing
        ok = thing is not None and (
            thing.kind == "path" or (thing.kind == "copies" and thing.constant("arrange") == "hand")
        )
        if not ok:
            s.notice.emit(
                "note", "Select a path, or copies arranged by hand; then click where a point or copy should stand.", ""
            )
            return
        at = self.ground_under(x, y)
        if at is None:
            s.notice.emit("note", "Nothing is there: click a mesh or the floor.", "")
            return
        if thing.kind == "path":
            at = self.place(thing).inverse().apply(at[None, None])[0, 0]
            spot = tuple(map(float, at))
        else:
            spot = (*map(float, at), 0.0, 1.0)
        do.set_spots(s.scene, thing.id, (*thing.spots, spot), f"Add a point to {thing.name}")

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
        points = self.session.picture.shapes[subject.id].own
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

    def pick_at(self, x: float, y: float, how: str = "set"):
        subject = self.session.subject
        if subject is None or subject.id not in self.session.picture.shapes:
            return
        pixels, visible = self.seen(subject)
        gap = np.where(visible, np.linalg.norm(pixels - [x, y], axis=1), np.inf)
        mask = np.zeros(len(gap), bool)
        if gap.min() <= REACH:
            mask[gap.argmin()] = True
        self._choose(subject, mask, how)

    def pick_box(self, a, b, how: str = "set"):
        subject = self.session.subject
        if subject is None or subject.id not in self.session.picture.shapes:
            return
        pixels, visible = self.seen(subject)
        low, high = np.minimum(a, b), np.maximum(a, b)
        self._choose(subject, visible & (pixels >= low).all(axis=1) & (pixels <= high).all(axis=1), how)

    def _choose(self, subject, mask, how):
        before = self.session.chosen_of(subject)
        self.session.choose(subject, {"set": mask, "add": before | mask, "take": before & ~mask}[how])

    def choose_islands(self):
        """Grow what is chosen to the whole connected islands."""
        subject = self.session.subject
        if subject is not None:
            mesh = self.session.scene.mesh(subject.mesh)
            self.session.choose(subject, maps.islands_of(mesh, self.session.chosen_of(subject)))

    def _surface_point(self, x, y, points, pixels) -> np.ndarray:
        """The point under a pixel, at the depth of the nearest vertex on screen."""
        near = points[np.linalg.norm(pixels - [x, y], axis=1).argmin()]
        eye, direction = self.camera.ray(x, y, self.width(), self.height())
        back = self.camera.axes[2]
        return eye + direction * ((near - eye) @ back) / (direction @ back)

    def lay_gradient(self, start, end):
        """A straight gradient between two points of the picture, in the active map; on the chosen vertices if any."""
        s, subject = self.session, self.session.subject
        if subject is None or subject.id not in s.picture.shapes:
            return
        points = s.picture.shapes[subject.id].own
        pixels, _ = self.camera.project(points, self.width(), self.height())
        ends = [self._surface_point(*p, points, pixels) for p in (start, end)]
        chosen = s.chosen_of(subject)
        found = subject.map(s.map_id)
        before = s.scene.arrays.get(found.weights) if found else np.zeros(len(points), np.float32)
        weights = maps.gradient(points, *ends, before, chosen if chosen.any() else None)
        if found:
            do.set_map(s.scene, subject.id, found.id, weights, f"Gradient in {found.name}")
        else:
            s.use_map(do.add_map(s.scene, subject.id, weights, "Gradient").id)

    def _select_at(self, x, y):
        """Select the grip, zone, path, camera, subject or copies under a pixel."""
        s, view = self.session, self.view()
        kinds = ("grip", "zone", "path", "camera", "collider")
        placed = [t for t in s.doc.things if t.kind in kinds and t.id != self.look.camera]
        near = [(float(np.linalg.norm(view.at(self.place(t).origin[0]) - [x, y])), i) for i, t in enumerate(placed)]
        if near and min(near)[0] < 12 and self.look.controls:
            s.select(placed[min(near)[1]].id)
            return
        joint = self.joint_under(x, y) if self.look.joints else None
        if joint is not None:
            s.select(joint)
            return
        best, found = np.inf, None
        for item in self.drawn():
            hit = self._depth_under(item, x, y) if s.doc.find(item.id) is not None else None
            if hit is not None and hit < best:
                best, found = hit, item.id
        if found and not (s.subject is not None and s.subject.id == found):
            s.select(found)

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
