"""Copies over time as instances of OpenUSD (UsdGeomPointInstancer): copies that go alike show one prototype."""

import numpy as np

from .distinct import shape_key
from .usd_values import Timed, quaternions, vectors


class CopiesOverTime:
    """Gathers copies frame by frame. Those that have shown the same shapes so far share a prototype, whose points go
    over time; where they part, a new one begins with what the old one showed until then."""

    def __init__(self, instancer, topology, frames: list[int]):
        """instancer -- UsdGeom.PointInstancer; topology(path) -> a new UsdGeom.Mesh of what is copied; frames that will
        come."""
        self.instancer, self.topology, self.frames = instancer, topology, frames
        self.shapes: list[Timed] = []  # points of each prototype
        self.reach: list[np.ndarray] = []  # (2, 3) m of each, of all that it shows
        self.prims: list = []
        self._of: dict[int, int] = {}  # prototype of each copy, by its id
        self._ids: list[tuple[int, np.ndarray]] = []
        tracks = (instancer.CreateIdsAttr(), instancer.CreatePositionsAttr(), instancer.CreateOrientationsfAttr(),
                  instancer.CreateScalesAttr(), instancer.CreateExtentAttr())  # fmt: skip
        self._tracks = [Timed(a, frames) for a in tracks]

    def add(self, frame: int, placed) -> None:
        """placed -- usd_shot.PlacedCopies."""
        from pxr import Vt

        which = placed.which if len(placed.shapes) > 1 else np.zeros(len(placed.ids), int)
        self._show(frame, placed.ids, which, placed.shapes)
        self._ids.append((frame, placed.ids))
        long = lambda v: Vt.Int64Array.FromNumpy(np.ascontiguousarray(v, np.int64))
        reach = float(np.abs(placed.shapes).max(initial=0.0)) * float(placed.size.max(initial=1.0)) * 1.8
        ends = np.zeros((2, 3))
        if len(placed.origin):
            ends = np.stack([placed.origin.min(axis=0) - reach, placed.origin.max(axis=0) + reach])
        sizes = np.repeat(placed.size[:, None], 3, axis=1)
        values = ((placed.ids, long), (np.asarray(placed.origin, np.float32), vectors), (placed.turn, quaternions),
                  (sizes, vectors), (ends.astype(np.float32), vectors))  # fmt: skip
        for track, (value, typed) in zip(self._tracks, values, strict=True):
            track.put(frame, value, typed)

    def _show(self, frame, ids, which, shapes) -> None:
        """Give each copy a prototype that shows its shape at this frame and showed its shapes before."""
        keys = [shape_key(s) for s in shapes]
        taken: dict[tuple, int] = {}  # (prototype until now, shape) -> prototype from now on
        shown: dict[int, bytes] = {}
        for i, w in zip(ids.tolist(), which.tolist(), strict=True):
            old = self._of.get(i, -1)
            if (old, keys[w]) not in taken:
                if old < 0:  # it is new: any that shows the same now will do
                    own = next((p for p, key in shown.items() if key == keys[w]), None)
                    own = self._new(None) if own is None else own
                else:
                    own = old if old not in shown else self._new(old)
                taken[old, keys[w]] = own
                shown[own] = keys[w]
                self._put(own, frame, np.asarray(shapes[w], np.float32))
            self._of[i] = taken[old, keys[w]]

    def _put(self, own: int, frame, points) -> None:
        self.shapes[own].put(frame, points)
        every = np.concatenate([self.reach[own], points])
        self.reach[own] = np.stack([every.min(axis=0), every.max(axis=0)])

    def _new(self, like: int | None) -> int:
        """A new prototype, which showed until now what another one did."""
        path = self.instancer.GetPath().AppendChild("Prototypes").AppendChild(f"Shape_{len(self.prims)}")
        prim = self.topology(path)
        self.prims.append(prim)
        shape = Timed(prim.CreatePointsAttr(), self.frames, keeps=True)
        if like is not None:
            shape.take(self.shapes[like])
        self.shapes.append(shape)
        self.reach.append(np.zeros((0, 3)) if like is None else self.reach[like])
        return len(self.prims) - 1

    def finish(self) -> None:
        """All frames have come."""
        from pxr import Vt

        for prim, reach in zip(self.prims, self.reach, strict=True):
            prim.CreateExtentAttr(vectors(reach))
        self.instancer.CreatePrototypesRel().SetTargets([p.GetPath() for p in self.prims])
        whole = lambda v: Vt.IntArray.FromNumpy(np.ascontiguousarray(v, np.int32))
        track = Timed(self.instancer.CreateProtoIndicesAttr(), self.frames)
        for frame, ids in self._ids:
            track.put(frame, np.array([self._of[i] for i in ids.tolist()], np.int32), whole)
