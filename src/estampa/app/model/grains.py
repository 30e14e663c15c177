"""What a picture needs of the grains of a swarm: a row of 32 bytes for each, and the shapes of their cycle as textures
that all of them read."""

from dataclasses import dataclass, field

import numpy as np

from ...evaluate.evaluator import Evaluator
from ...formats.vertex_texture import layout, lookup_of, texels_of
from ...geometry.mesh import Mesh
from ...geometry.pose import turns_of
from ...light import on_screen
from ...scene.document import Thing
from .looks import DisplayMesh, tints

SMOOTH = np.radians(44)  # up to which the edges of what grains show look smooth
MOST = 100_000  # grains of a swarm that are worked out for a view without a graphics card
MOST_TRAILS = 2_000  # grains whose trails are drawn
TRAIL = 16  # frames that a trail goes back
STALL = (0.46, 0.40, 0.36)  # of what has no material

ROW = np.dtype([
    ("place", "f4", 3), ("turn", "i2", 4), ("size", "f4"), ("dye", "u1", 4), ("shape", "u2"), ("unused", "u2"),
])  # fmt: skip


@dataclass(eq=False)
class Cycle:
    """The shapes that grains show, as the card has them: a mesh of m vertices parted along its creases, its offsets
    and normals in texels as a printed vertex texture has them. float32, but for half floats in the texels."""

    rest: np.ndarray  # (m, 3)
    lookup: np.ndarray  # (m, 2)
    tint: np.ndarray  # (m, 3)
    triangles: np.ndarray  # (t, 3)
    edges: np.ndarray  # (e, 2)
    offsets: np.ndarray  # (height, width, 3)
    normals: np.ndarray  # (height, width, 3)
    rows: int  # of texels a frame
    low: np.ndarray  # (3,) of all its shapes
    high: np.ndarray

    @classmethod
    def of(cls, mesh: Mesh, shapes: np.ndarray) -> "Cycle":
        """shapes (c, n, 3) m"""
        creased = mesh.creased(SMOOTH)
        points = np.stack([creased.of(s) for s in shapes])
        offsets, rows = texels_of(points - points[0])
        normals, _ = texels_of(np.stack([creased.mesh.normals(p) for p in points]))
        tint = tints(creased.mesh if creased.mesh.face_materials is not None else mesh)
        plain = np.tile(np.array(STALL, np.float32), (creased.mesh.count, 1))
        tint = plain if tint is None else tint if len(tint) == creased.mesh.count else creased.of(tint)
        width, _, height = layout(creased.mesh.count, len(points))
        lookup = lookup_of(creased.mesh.count, width, height).astype(np.float32)
        bounds = (points.min(axis=(0, 1)), points.max(axis=(0, 1))) if points.size else (np.zeros(3), np.zeros(3))
        return cls(points[0].astype(np.float32), lookup, np.asarray(tint, np.float32), creased.mesh.triangles,
                   mesh.edges, offsets, normals, rows, *bounds)  # fmt: skip

    @property
    def across(self) -> float:
        """m"""
        return float(np.linalg.norm(self.high - self.low))

    @property
    def ink(self) -> np.ndarray:
        """(3,) its colour from afar."""
        return self.tint.mean(axis=0) if len(self.tint) else np.array(STALL, np.float32)


@dataclass(eq=False)
class LookedGrains:
    """Grains that one layer shows: rows (k,) as ROW, ids (k,), all in one cycle."""

    rows: np.ndarray
    ids: np.ndarray
    cycle: Cycle
    dyed: bool
    is_current: bool = True
    shown_frame: float | None = None
    one_in: int = 1  # of so many that there are one is drawn


@dataclass(eq=False)
class LookedSwarm:
    """A swarm at a frame: its grains by layer, surfaces around all of them, and where some of them were: trails
    (f, k, 3) m from the present backwards, not a number where there was none, and of which grains they are."""

    layers: list[LookedGrains] = field(default_factory=list)
    skins: list[DisplayMesh] = field(default_factory=list)
    trails: np.ndarray | None = None
    trail_ids: np.ndarray | None = None

    @property
    def places(self) -> np.ndarray:
        """(k, 3) m"""
        return np.concatenate([l.rows["place"] for l in self.layers] or [np.zeros((0, 3), np.float32)])

    @property
    def ids(self) -> np.ndarray:
        return np.concatenate([l.ids for l in self.layers] or [np.zeros(0, np.int64)])


def spans_of(looked: LookedSwarm) -> np.ndarray:
    """(2 k, 3) m: the lowest and highest corner of a ball around what each grain shows."""
    found = []
    for layer in looked.layers:
        reach = 0.5 * layer.cycle.across * layer.rows["size"][:, None]
        found += [layer.rows["place"] - reach, layer.rows["place"] + reach]
    found += [skin.points for skin in looked.skins]
    return np.concatenate(found) if found else np.zeros((0, 3))


def look_at_swarm(
    evaluator: Evaluator, swarm: Thing, frame: float, most: int = MOST, trails: bool = False, picked: int | None = None
) -> LookedSwarm:
    """most -- grains that are worked out, the same ones at every frame; picked -- id of one that is among the trails"""
    skinned = bool(evaluator.dressing.skins(swarm))  # of all grains
    one_in = 1 if skinned else -(-evaluator.swarms.expected(swarm) // most) or 1
    found = evaluator.dressing.outcome(swarm, frame, one_in)
    if found is None:
        return LookedSwarm()
    more = {"is_current": found.is_current, "shown_frame": found.shown_frame, "one_in": one_in}
    layers = [_grains(evaluator, part, more) for part in found.parts if part.places is not None]
    own = {"is_current": found.is_current, "shown_frame": found.shown_frame}
    whole = [part for part in found.parts if part.places is None]
    looked = LookedSwarm(layers, [DisplayMesh.of(p.points, p.mesh, np.pi, inks_of=p.inks, **own) for p in whole])
    if trails or picked is not None:
        _trail(evaluator, swarm, frame, looked, one_in, MOST_TRAILS if trails else 0, picked)
    return looked


def looker(most: int = MOST, trails: bool = False, picked=None):
    """How swarms are looked at: look_at_swarm with what a view or a movie asks for. picked -- a view.Picked or None"""

    def swarms(evaluator, swarm, frame):
        own = picked.id if picked is not None and picked.swarm == swarm.id else None
        return look_at_swarm(evaluator, swarm, frame, most, trails, own)

    return swarms


def _grains(evaluator, part, more) -> LookedGrains:
    made_of = (part.points, part.mesh)
    cycle = evaluator.scene.memo.get(
        "", ("looked cycle", id(part.mesh)), made_of, lambda: Cycle.of(part.mesh, part.points)
    )
    rows = np.zeros(part.count, ROW)
    rows["place"], rows["size"] = part.places.origin, part.places.size
    rows["turn"] = np.rint(32767 * turns_of(part.places.axes))
    if part.shape is not None:
        rows["shape"] = part.shape
    if part.tints is not None:
        rows["dye"][:, :3] = np.rint(255 * np.clip(on_screen(part.tints), 0, 1))
    return LookedGrains(rows, part.ids, cycle, part.tints is not None, **more)


def _trail(evaluator, swarm, frame, looked, one_in, most, picked) -> None:
    """Where grains were, of so many at the most, and of the picked one."""
    ids = np.sort(looked.ids)
    step = -(-len(ids) // most) if most else len(ids) + 1
    own = ids[::step] if most else ids[:0]
    if picked is not None and picked in ids:
        own = np.union1d(own, [picked])
    trails = []
    for away in range(TRAIL + 1):
        if frame - away < evaluator.doc.start:
            break
        found = evaluator.dressing.grains(swarm, frame - away, one_in)
        if found is None or not found[2]:
            break
        there, at = found[0]["ids"], np.full((len(own), 3), np.nan)
        row = np.minimum(np.searchsorted(there, own), max(len(there) - 1, 0))
        lives = there[row] == own if len(there) else np.zeros(len(own), bool)
        at[lives] = found[0]["position"][row[lives]]
        trails.append(at)
    looked.trails = np.array(trails) if trails else None
    looked.trail_ids = own
