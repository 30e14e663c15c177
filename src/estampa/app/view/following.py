"""One grain, picked in a pane: told by its number, marked with its trail, and followed by the view."""

from dataclasses import replace

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

from ..model.view import Picked
from .marks import AMBER

NEAR = 10  # pixels from a grain's middle, beside what it is wide, within which a click picks it


class Following:
    """The part of a Viewport that picks a grain and goes along with it."""

    def grain_under(self, x: float, y: float) -> Picked | None:
        """The grain at a pixel: of those that are there the nearest to the eye."""
        found, best = None, np.inf
        isolated = self.session.selection.isolated
        for swarm, looked in self.session.pictures.picture.swarms.items() if self.look.meshes else ():
            for layer in looked.layers if not isolated or swarm in isolated else ():
                place = layer.rows["place"].astype(float)
                pixels, depth = self.camera.project(place, self.width(), self.height())
                eye = np.maximum((self.camera.eye - place) @ self.camera.axes[2], 1e-6)
                wide = 0.5 * self.height() / np.tan(self.camera.view / 2) * layer.rows["size"] / eye
                reach = np.maximum(0.5 * layer.cycle.across * wide, NEAR)
                off = np.linalg.norm(pixels - [x, y], axis=1)
                hit = np.flatnonzero((off < reach) & (depth > 0) & (depth < 1))
                if len(hit):
                    # under the pointer first, then the one in front
                    k = hit[np.lexsort((depth[hit], np.round(off[hit] / NEAR)))[0]]
                    if off[k] < best:
                        best, found = off[k], Picked(swarm, int(layer.ids[k]))
        return found

    def _picked_at(self):
        """((3,) m of the picked grain, its trail (f, 3)), or None while it does not live."""
        picked, picture = self.session.view.picked, self.session.pictures.picture
        looked = picture.swarms.get(picked.swarm) if picked is not None else None
        if looked is None or looked.trails is None or looked.trail_ids is None:
            return None
        column = np.flatnonzero(looked.trail_ids == picked.id)
        if not len(column) or not np.isfinite(looked.trails[0, column[0]]).all():
            return None
        trail = looked.trails[:, column[0]]
        return trail[0], trail[np.isfinite(trail).all(axis=1)]

    def _picked_words(self, picked: Picked) -> str:
        swarm, found = self.session.doc.find(picked.swarm), self._picked_at()
        name = f"grain {picked.id % (1 << 40):,} of {swarm.name if swarm else 'a swarm'}"
        if found is None:
            return f"{name}: not there at this frame"
        at, trail = found
        rate = self.session.doc.frame_rate
        speed = float(np.linalg.norm(trail[0] - trail[1])) * rate if len(trail) > 1 else None
        words = f"{name}: at {at[0]:.2f}, {at[1]:.2f}, {at[2]:.2f} m" + (f", {speed:.2f} m/s" if speed else "")
        return words + ("; the view follows it" if self.session.view.following else "; Alt+Shift+F follows it")

    def _draw_picked(self, painter: QPainter):
        found = self._picked_at()
        if found is None:
            return
        at, trail = found
        pixels, depth = self.camera.project(trail, self.width(), self.height())
        painter.setPen(QPen(QColor(AMBER), 2))
        painter.setBrush(Qt.NoBrush)
        for a, b, near in zip(pixels[:-1], pixels[1:], depth[1:], strict=True):
            if near > 0:
                painter.drawLine(QPointF(*a), QPointF(*b))
        if depth[0] > 0:
            painter.setPen(QPen(QColor("#fffaf0"), 2))
            painter.drawEllipse(QPointF(*pixels[0]), 13, 13)

    def _follow(self):
        """Turn the view along with the picked grain, as each picture comes."""
        found = self._picked_at() if self.session.view.following else None
        if found is not None and self._own_camera.held is None:
            self._own_camera = replace(self._own_camera, target=found[0].astype(float))
