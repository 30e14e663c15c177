"""What a picture of a frame is made of: worked out beside the window, drawn by any pane."""

from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from ...evaluate import outcome
from ...evaluate.evaluator import Evaluator
from ...geometry.bonds import neighbours
from ...geometry.mesh import Creased, Mesh
from ...geometry.pieces import Pieces
from ...geometry.seamless import corner_normals, seamless, turned_with
from ...hashing import digest, rand
from ...light import on_screen
from ...scene.bones import Bones
from ...scene.copies import only_in_copies
from ...scene.document import Thing
from ...scene.values import Rows
from ...solve.bodies.shapes import outline

STRIPES = 12.0
MANY, SMALL = 24, 4_000  # subjects, from which on they are drawn as one: still ones, and those of so few vertices
STALL, CLOTH = (0.46, 0.40, 0.36), (0.83, 0.79, 0.72)  # colours of what has no material: without layers, and with some


@dataclass(frozen=True)
class Pictured:
    """How a mesh is drawn that has pictures: its triangles material by material, (t, 3); where their corners lie in the
    pictures, (t, 3, 2); and of each material (the first triangle, how many, it)."""

    triangles: np.ndarray
    uv: np.ndarray
    parts: list

    @classmethod
    def of(cls, mesh: Mesh, drawn: Mesh) -> "Pictured | None":
        """drawn -- the mesh as it is parted for shading, with the same faces"""
        shows = any(
            m.picture is not None or m.missing or m.alpha != "opaque" or not m.two_sided for m in mesh.materials
        )
        if not shows or mesh.face_materials is None or len(mesh.triangles) != len(drawn.triangles):
            return None
        of = mesh.face_materials[mesh.triangle_faces]
        order = np.argsort(of, kind="stable")
        uv, parts = np.zeros((len(of), 3, 2), np.float32), []
        ends = np.searchsorted(of[order], np.arange(len(mesh.materials) + 1))
        for k, material in enumerate(mesh.materials):
            if ends[k + 1] > ends[k]:
                parts.append((int(ends[k]), int(ends[k + 1] - ends[k]), material))
                own = mesh.of_corners(material.uv)
                if own is not None:
                    uv[ends[k] : ends[k + 1]] = own[mesh.triangle_corners[order[ends[k] : ends[k + 1]]]]
        return cls(np.ascontiguousarray(drawn.triangles[order]), uv, parts)


@dataclass
class DisplayMesh:
    """A subject, or copies of one. When `stand` is given, the mesh is drawn in each of those places."""

    points: np.ndarray  # (n, 3) float64
    mesh: Mesh
    lit: np.ndarray  # normals of the mesh parted along its creases
    creased: Creased
    is_current: bool = True
    shown_frame: float | None = None
    stand: np.ndarray | None = None  # (k, 4, 4)
    base: np.ndarray | None = None  # the subject's own vertices, when a layer changes topology
    copies: int = 1
    drawn: np.ndarray | None = None  # (m, 3) where vertices are drawn, if not where they are
    inks_of: np.ndarray | None = None  # (n, 3) linear light of its vertices, in place of its materials
    seeds: np.ndarray | None = None  # (s, 3) m in the subject's own space, what it was cut around
    size: float = 1.0  # of the subject in the world
    catches: bool = False  # nothing of it is seen but the shadows on it

    @classmethod
    def of(cls, points: np.ndarray, mesh: Mesh, smooth: float, **more) -> "DisplayMesh":
        """smooth -- rad, up to which the edges of the mesh look smooth"""
        creased = mesh.creased(smooth)
        return cls(points, mesh, creased.mesh.normals(creased.of(points)), creased, **more)

    @cached_property
    def tint(self) -> np.ndarray | None:
        """(m, 3) float32 colour of each vertex that is drawn, by its faces' materials; None without materials."""
        if self.inks_of is not None:
            return self.creased.of(on_screen(self.inks_of)).astype(np.float32)
        if self.creased.mesh.face_materials is not None:
            return tints(self.creased.mesh)
        found = tints(self.mesh)
        return None if found is None else self.creased.of(found)

    @property
    def pictured(self) -> Pictured | None:
        """How it is drawn with its pictures; made once for a mesh."""
        drawn = self.creased.mesh
        return drawn.cached("pictured", lambda: Pictured.of(self.mesh, drawn), id(self.mesh))

    @cached_property
    def inks(self) -> np.ndarray | None:
        """(m, 3) float32 an ink by chance for each piece, of each vertex drawn; None of what is in one piece."""
        pieces = Pieces.each(self.mesh)
        if pieces.count < 2:
            return None
        number = np.arange(pieces.count)
        hue, pale = rand(7, number, "ink"), 0.55 + 0.35 * rand(7, number, "pale")
        waves = np.cos(2 * np.pi * (hue[:, None] + np.array([0.0, 1 / 3, 2 / 3])))
        found = (pale[:, None] * (0.72 + 0.28 * waves)).astype(np.float32)
        return self.creased.of(found[pieces.of_vertex])

    @cached_property
    def edge_stretch(self) -> np.ndarray:
        """(e,) by how much each edge of the mesh is longer than at rest, as a fraction."""
        long = lambda p: np.linalg.norm(p[self.mesh.edges[:, 1]] - p[self.mesh.edges[:, 0]], axis=1)
        return long(self.points) / np.maximum(self.size * long(self.mesh.points), 1e-12) - 1

    @cached_property
    def stretch(self) -> np.ndarray:
        """(n,) the stretch of the longest edge at each vertex."""
        found = np.full(len(self.points), -1.0)
        for side in (0, 1):
            np.maximum.at(found, self.mesh.edges[:, side], self.edge_stretch)
        return found

    @cached_property
    def normals(self) -> np.ndarray:
        """(n, 3) of the vertices, as they are without creases."""
        return self.mesh.normals(self.points)

    @cached_property
    def lowest(self) -> float:
        """m"""
        return float(self.points[:, 1].min()) if len(self.points) else 0.0

    @property
    def own(self) -> np.ndarray:
        """(n, 3) where the vertices of the subject's own mesh are."""
        return self.points if self.base is None else self.base


@dataclass
class Looked:
    """The shapes of one frame, ready to be drawn."""

    frame: float
    shapes: dict[str, DisplayMesh] = field(default_factory=dict)
    swarms: dict = field(default_factory=dict)  # grains.LookedSwarm by swarm
    ghosts: list[tuple[float, DisplayMesh]] = field(default_factory=list)  # (frames away, shape)
    held: dict[str, DisplayMesh] = field(default_factory=dict)  # of the result that is held to compare
    joints: dict[str, "LookedJoints"] = field(default_factory=dict)  # of skeletons
    outlines: list[np.ndarray] = field(default_factory=list)  # (s, 2, 3) segments of collision shapes
    alarms: list[np.ndarray] = field(default_factory=list)  # (s, 2, 3) segments of what goes through something
    batches: list["Batch"] = field(default_factory=list)  # still subjects as one, where there are many


@dataclass
class Batch:
    """Many subjects without layers, joined to be drawn at once. float32 for the renderer."""

    ids: frozenset
    points: np.ndarray
    lit: np.ndarray
    triangles: np.ndarray
    edges: np.ndarray
    tint: np.ndarray
    yarns: np.ndarray | None = None  # (n,) where stripes are drawn across them


@dataclass
class LookedJoints:
    """A skeleton's joints at a frame: (n, 4, 4) in the world."""

    bones: Bones
    world: np.ndarray
    is_current: bool = True
    shown_frame: float | None = None

    def ends(self) -> tuple[np.ndarray, np.ndarray]:
        """((s, 3) starts, (s, 3) ends) of every segment."""
        return self.bones.segment_ends(self.world)


def look_at(evaluator: Evaluator, thing: Thing, frame: float, apart: bool = False) -> DisplayMesh | None:
    """One subject or set of copies, even while it is off; None where there is nothing to see.
    apart -- what is broken is shown in its pieces even while none has moved."""
    found = outcome.of(evaluator, thing, frame)
    if found is None or not found.parts:
        return None
    part, subject = found.parts[0], evaluator.doc.shape_of(thing)
    more = {"is_current": found.is_current, "shown_frame": found.shown_frame, "copies": part.count}
    more["size"] = float(evaluator.values.place(subject, Rows.one(frame)).size[0])
    more["catches"] = bool(subject.constant("catches"))
    smooth = evaluator.values.at(subject, "smooth", frame)
    if part.places is None:
        layers = evaluator.layers(subject)
        remeshes = [i for i, l in enumerate(layers) if l.declared.remeshes]
        base = evaluator.through(subject, layers[: remeshes[0]], frame).points if remeshes else None
        if part.mesh.cut_from is not None:
            more |= {"base": base, "seeds": part.mesh.cut_from.seeds}
            return _broken(evaluator, subject, part, frame, smooth, apart, **more)
        return DisplayMesh.of(part.points, part.mesh, smooth, base=base, **more)
    if part.alike and part.mesh.cut_from is not None:
        found = _broken_in_copies(evaluator, subject, part, frame, smooth, apart, **more)
        if found is not None:
            return found
    if part.alike:
        return DisplayMesh.of(part.points[0], part.mesh, smooth, stand=part.places.matrices, **more)
    return DisplayMesh.of(part.in_world(), part.as_one(), smooth, **more)


def _broken_in_copies(evaluator, subject, part, frame, smooth, apart, **more) -> DisplayMesh | None:
    """Copies of a broken subject, drawn as it is itself; None where they are at another moment than it is."""
    own = outcome.of_subject(evaluator, subject, frame).parts[0]
    back = evaluator.values.place(subject, Rows.one(frame)).inverse()
    if not np.allclose(back.apply(own.points[None])[0], part.points[0], atol=1e-7):
        return None
    found = _broken(evaluator, subject, own, frame, smooth, apart)
    still = lambda points: None if points is None else back.apply(points[None])[0]
    lit = found.lit @ (back.axes[0] / max(float(np.linalg.norm(back.axes[0][:, 0])), 1e-12)).T
    more |= {"stand": part.places.matrices, "drawn": still(found.drawn)}
    return DisplayMesh(still(found.points), found.mesh, lit, found.creased, **more)


def _broken(evaluator, subject, part, frame, smooth, apart, **more) -> DisplayMesh:
    """A broken mesh: the whole one while no piece has moved and no gap is between them; then with the normals that it
    had, turned with each piece."""
    layers = evaluator.layers(subject)
    at = max(i for i, l in enumerate(layers) if l.declared.slow)
    whole, unmoved = (evaluator.through(subject, layers[:i], frame).points for i in (at, at + 1))
    if not apart and np.array_equal(part.points, unmoved) and (neighbours(part.mesh) >= 0).any():
        uncut = part.mesh.cut_from.whole
        if uncut.face_materials is None:  # the colour that its outside has as soon as a piece moves
            more["inks_of"] = np.tile(np.asarray(part.mesh.materials[0].colour, float), (uncut.count, 1))
        return DisplayMesh.of(whole, uncut, smooth, **more)
    made = seamless(part.mesh, smooth)

    def make():
        normals = corner_normals(part.mesh, whole, unmoved, smooth).reshape(-1, 3)[made.corner]
        return np.ascontiguousarray(normals)

    normals = evaluator.scene.memo.get(subject.id, "broken normals", (made, digest(whole)), make)
    axes, linear, shift = outcome.since_broken(evaluator, subject, part, unmoved, frame)
    drawn = made.without_walls(made.creased.of(part.points), linear, shift)
    return DisplayMesh(
        part.points, part.mesh, turned_with(normals, made.piece, axes), made.creased, drawn=drawn, **more
    )  # fmt: skip


def look(evaluator: Evaluator, frame: float, apart: bool = False, swarms=None) -> Looked:
    """Everything that is on at a frame. apart -- see `look_at`; swarms(evaluator, swarm, frame) -- how swarms are
    looked at, where not plainly."""
    from .grains import look_at_swarm

    swarms = swarms or look_at_swarm
    result, hidden = Looked(frame), only_in_copies(evaluator.doc)
    for thing in evaluator.doc.things:
        if not thing.on or thing.id in hidden:
            continue
        owner = thing.declared.owner if thing.declared is not None else ""
        if owner == "mesh":
            result.shapes[thing.id] = _look_once(evaluator, thing, frame, apart)
        elif owner == "copies":
            found = look_at(evaluator, thing, frame)
            if found is not None:
                result.shapes[thing.id] = found
        elif owner == "grains" and thing.stack:
            result.swarms[thing.id] = swarms(evaluator, thing, frame)
        elif owner == "skeleton" and thing.joints:
            posed = evaluator.poses.at(thing, frame)
            world = evaluator.poses.world(thing, frame)
            result.joints[thing.id] = LookedJoints(posed.bones, world, posed.is_current, posed.shown_frame)
    shapes = result.shapes
    plain = [t.id for t in evaluator.doc.subjects if t.id in shapes and (not t.stack or _is_small(shapes[t.id]))]
    plain = [i for i in plain if shapes[i].pictured is None and not shapes[i].catches]
    if len(plain) > MANY:
        shapes = {i: shapes[i] for i in plain}
        # the floor is drawn under what stands on it only, so what dips below it is kept apart; so is what has yarns
        groups: dict[tuple[bool, bool], list[str]] = {}
        for i in sorted(shapes):
            groups.setdefault((shapes[i].lowest < -1e-3, _has_yarns(evaluator, i, shapes[i])), []).append(i)
        for group, ids in groups.items():
            result.batches.append(_batch(evaluator, group, ids, [shapes[i] for i in ids]))
    return result


def _has_yarns(evaluator, subject_id: str, shape: DisplayMesh) -> bool:
    """Whether its stretch and turn can be seen by stripes across U."""
    return bool(evaluator.doc.find(subject_id).stack) and shape.mesh.uv is not None and shape.tint is None


def yarns_of(mesh: Mesh) -> np.ndarray | None:
    """(n,) a stripe for each twelfth of U's range; None without texture coordinates."""
    if mesh.uv is None:
        return None
    u = mesh.uv[:, 0]
    return (u - u.min()) / max(float(np.ptp(u)), 1e-9) * STRIPES


def _is_small(shape: DisplayMesh) -> bool:
    """Whether it is sooner joined with others at every frame than drawn by itself."""
    return len(shape.points) <= SMALL and shape.stand is None and shape.drawn is None


def _look_once(evaluator, subject, frame, apart) -> DisplayMesh:
    """The look of a subject: the one that was worked out before, as long as all that it depends on is the very same."""
    made_of = evaluator.dependencies.of(subject)
    if made_of is None:
        return look_at(evaluator, subject, frame, apart)
    if not subject.stack and not subject.constant("parent") and evaluator.reader.still(subject):
        frame_of = None  # it moves by nothing
    else:
        frame_of = float(frame)
    key, look_now = (made_of, frame_of, apart), lambda: look_at(evaluator, subject, frame, apart)
    return evaluator.scene.memo.get(subject.id, "look", key, look_now)


def _batch(evaluator, number, ids, shapes) -> Batch:
    moved = [bool(evaluator.doc.find(i).stack) for i in ids]
    scene = evaluator.scene
    return scene.memo.get("", ("batch", number), tuple(shapes), lambda: _joined(scene, number, ids, shapes, moved))


def _joined(scene, number, ids, shapes, moved) -> Batch:
    parted = [s.creased for s in shapes]

    def make():
        starts = np.cumsum([0] + [c.mesh.count for c in parted])
        triangles, edges, tint = [], [], []
        for shape, creased, start, moves in zip(shapes, parted, starts[:-1], moved, strict=True):
            triangles.append(creased.mesh.triangles + start)
            edges.append(shape.mesh.edges + start)
            plain = np.tile(np.array(CLOTH if moves else STALL, np.float32), (creased.mesh.count, 1))
            tint.append(plain if shape.tint is None else shape.tint)
        yarns = None
        if number[1]:
            yarns = np.concatenate([c.of(yarns_of(s.mesh)) for s, c in zip(shapes, parted, strict=True)])
        return np.concatenate(triangles), np.concatenate(edges), np.concatenate(tint), yarns

    key = (tuple(ids), tuple(moved), tuple(c.mesh for c in parted))
    topology = scene.memo.get("", ("batch topology", number), key, make)
    points = np.concatenate([c.of(s.points) for s, c in zip(shapes, parted, strict=True)]).astype(np.float32)
    lit = np.concatenate([s.lit for s in shapes]).astype(np.float32)
    return Batch(frozenset(ids), points, lit, *topology)


def alarms(evaluator: Evaluator, frame: float) -> list[np.ndarray]:
    """(s, 2, 3) m in the world: what is wrong with the solved frames that are shown."""
    found = []
    for run in evaluator.runs.every():
        solved = evaluator.runs.kept(run, frame, ("begin", "end")) if run.alarm is not None else None
        if solved is not None and run.alarm.table in solved.tables and len(solved[run.alarm.table]):
            rows = solved[run.alarm.table]
            found.append(np.stack([rows["begin"], rows["end"]], axis=1).astype(float))
    return found


def outlines(evaluator: Evaluator, frame: float, most: int = 400) -> list[np.ndarray]:
    """(s, 2, 3) m in the world: the collision shapes of bodies, of so many at the most."""
    found = []
    for subject in evaluator.doc.subjects:
        layers = evaluator.layers(subject)
        if not subject.on or not layers or not layers[-1].declared.collides:
            continue
        stands = evaluator.runs.stands(subject, frame)
        if stands is None:
            continue
        pieces, place, centres = stands
        shape, first = layers[-1].constant("shape"), evaluator.runs.entering(subject, layers[-1], frame).first()
        for i, segments in enumerate(_outlines(pieces, first, centres, shape, most)):
            found.append(segments @ place.axes[i].T + place.origin[i])
        if len(found) >= most:
            break
    return found[:most]


def _outlines(pieces, first, centres, shape, most):
    """Of each piece, about its centre; made once."""

    def make():
        made = []
        for i in range(min(pieces.count, most)):
            own = pieces.vertices[i]
            made.append(outline(shape, first[own] - centres[i], pieces.number[pieces.triangles[i]]))
        return made

    return pieces.mesh.cached("outlines", make, (shape, pieces.count))


def trail(evaluator: Evaluator, thing: Thing, frames) -> np.ndarray | None:
    """(f, 3) where a thing stands over frames; None when it does not move."""
    if thing.declared is None or "parent" not in thing.declared.channels:
        return None
    places = evaluator.values.place(thing, Rows.over(frames)).spread(len(frames))
    return places.origin if np.ptp(places.origin, axis=0).max() > 1e-9 else None


def tints(mesh: Mesh) -> np.ndarray | None:
    """(n, 3) float32 colour of each vertex, by its faces' materials; None without materials."""
    if mesh.face_materials is None or not mesh.materials:
        return None
    return mesh.cached("tints", lambda: _tints(mesh))


def _tints(mesh):
    colours = on_screen(np.array([m.colour for m in mesh.materials], np.float32))
    found = np.full((mesh.count, 3), 0.8, np.float32)
    by_corner = colours[np.repeat(mesh.face_materials, mesh.face_counts)]
    colour = mesh.of_corners("colour")
    if colour is not None:
        by_corner = by_corner * on_screen(np.clip(colour[:, :3], 0, 1))
    found[mesh.face_indices] = by_corner
    return found


def difference(a: DisplayMesh, b: DisplayMesh) -> tuple[float, float] | None:
    """(mean, largest) distance in metres between two results of the same mesh."""
    if (
        a.stand is not None
        and b.stand is not None
        and a.stand.shape == b.stand.shape
        and a.points.shape == b.points.shape
    ):
        p, q = (np.einsum("kij,nj->kni", s.stand[:, :3, :3], s.points) + s.stand[:, None, :3, 3] for s in (a, b))
    elif a.stand is None and b.stand is None and a.points.shape == b.points.shape:
        p, q = a.points, b.points
    else:
        return None
    apart = np.linalg.norm(p - q, axis=-1)
    return float(apart.mean()), float(apart.max())
