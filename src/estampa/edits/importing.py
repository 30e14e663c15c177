"""Bringing in an asset: its nodes become subjects, grips and cameras that ride on one another, its animation keys."""

from dataclasses import dataclass, field

import numpy as np

from ..errors import EstampaError
from ..formats.asset import Asset, into_metres
from ..geometry.mesh import Mesh
from ..geometry.place import Place
from ..geometry.pose import squared, to_euler, turns_of
from ..scene.curves import Curve, Key
from ..scene.document import Thing
from ..scene.ids import new_id
from ..scene.reduce import CHANNELS, placed_by_keys
from ..scene.scene import Arrays, Scene
from ..units import format_length
from .asset_rigs import CLOSE, bind_of, curves_of, felt_over, is_kept, morphs_of, posed, rigs_of, skeleton_of, with_clip
from .names import Names
from .things import reference

SKEWED = 1e-4  # m, from which on a size by axes, or a shear, is more than rounding
MOST_FRAMES = 20_000
MOST_PLACES = 6_000_000  # parts that move, times frames


@dataclass
class Prepared:
    """What is to come in: made beside the window, put in at once."""

    things: list[Thing]
    arrays: Arrays  # what they name
    meshes: list[tuple]  # (reference, mesh) of each that they name
    end: int  # the last frame that any key stands at; 0 where nothing moves
    words: list[str] = field(default_factory=list)


def prepare(
    asset: Asset, names: Names, frame_rate: float, take=None, unit: float | None = None, up: str | None = None,
    progress=lambda share, text: None, first: int = 1,
) -> Prepared:  # fmt: skip
    """The things that the taken nodes (all, when None) become, in metres with +Y up.

    A node that only carries others becomes a grip, joints that a skin follows become a skeleton with a clip for each
    animation. Sizes that differ along the axes, mirrors and shears go into the points, so that what rides on it keeps
    its shape. Animation is sampled at the frame rate, and becomes as few keys as 0.5 mm and 0.1 degrees allow.
    """
    wanted = _wanted(asset, take)
    if not wanted:
        raise EstampaError(asset.path.name, "has nothing that was ticked.", "Tick what is to come in.")
    into = into_metres(unit or asset.unit, up or asset.up)
    try:
        return _Coming(asset, names, frame_rate, take, into, progress, first, wanted).prepared()
    except (ValueError, np.linalg.LinAlgError) as err:  # of what a damaged file may hold, not all is foreseen
        cause = "holds numbers that nothing can be made of."
        raise EstampaError(asset.path.name, cause, "Export it again.", repr(err)) from err


class _Coming:
    def __init__(self, asset, names, frame_rate, take, into, progress, first, wanted):
        self.asset, self.names, self.frame_rate, self.take = asset, names, frame_rate, take
        self.into, self.progress, self.first, self.wanted = into, progress, first, wanted
        self.arrays, self.meshes, self.shared, self.references = Arrays(), [], {}, {}
        self.sheared: list[str] = []  # what no size by axes says, in words
        nodes = asset.nodes
        self.paths = asset.paths()
        self.world = asset.world(into)
        self.rigid, self.size = _rigid(self.world)
        self.moving = np.zeros(len(nodes), bool)
        for i, node in enumerate(nodes):
            self.moving[i] = node.moves is not None or (node.parent >= 0 and self.moving[node.parent])
        self.rigs = rigs_of(asset, [i for i in wanted if self._own(i)], self.world, self.moving)
        self.rig_at = {r.above: r for r in self.rigs if r.above >= 0}
        self.rig_of = {j: r for r in self.rigs for j in r.joints}
        self.ids = {i: new_id() for i in wanted}
        self.rides_on = dict(self.ids)  # what is below a node rides on this
        for rig in self.rigs:
            self.rides_on |= dict(zip(rig.joints, rig.ids, strict=True))
        for above, rig in self.rig_at.items():
            self.rides_on[above] = self.ids[above] = rig.id

    def _own(self, i) -> bool:
        """Whether a node comes itself; one that is not ticked only carries others."""
        return self.take is None or i in self.take

    def prepared(self) -> Prepared:
        nodes, things = self.asset.nodes, []
        self.tracks, self.end = None, 0
        places = [i for i in self.wanted if self.moving[i] and i not in self.rig_of]
        self.frames = self._frames(0) if places or self.rigs else np.array([float(self.first)])
        if len(self.frames) > 1 and places:
            self.tracks = self._course(0, self.frames)
        for count, i in enumerate(self.wanted):
            self.progress(0.6 + 0.4 * count / len(self.wanted), f"Placing {nodes[i].name}")
            if i in self.rig_at:
                things.append(self._skeleton(self.rig_at[i], nodes[i].name, self._placed(i)))
            elif i not in self.rig_of or (self._own(i) and (nodes[i].mesh is not None or nodes[i].view is not None)):
                things.append(self._thing(i))
        for rig in self.rigs:
            if rig.above < 0:
                things.append(self._skeleton(rig, f"{nodes[rig.joints[0]].name} skeleton", {}))
        things = self._with_clips(things)
        end = self.end if len(self.frames) <= 1 else max(self.end, int(np.ceil(self.frames[-1])))
        missing = sorted({m.missing for _, t in self.meshes for m in t.materials if m.missing})
        words = [f"missing: {', '.join(missing)} (shown as a grey checker)"] if missing else []
        words += [f"left out: {w}" for w in dict.fromkeys([*self.asset.left, *self.sheared])]
        later = [n.name for n in nodes if n.moves is not None and not n.joint and len(self.asset.clips) > 1]
        if later and places:
            names = ", ".join(c.name for c in self.asset.clips[1:])
            words.append(f"left out: how what is no joint moves in {names}; {self.asset.clips[0].name} came as keys")
        return Prepared(things, self.arrays, self.meshes, end, words)

    # -- things ------------------------------------------------------------------------------------------------
    def _placed(self, i) -> dict:
        """Where a node stands: what it rides on, and its place or keys. What is at a joint hangs on that."""
        if i in self.rig_of:
            return {"parent": self.rides_on[i]}
        parent = self.asset.nodes[i].parent
        values = {"parent": self.rides_on[parent]} if parent in self.rides_on else {}
        parent = parent if parent in self.rides_on else -1
        if self.tracks is not None and self.moving[i]:
            reach = _reach(self.asset.nodes[i], self.size[i])
            values |= _keys(self.tracks, i, parent, self.frames, reach, self.asset.nodes[i].name)
            return values | self._own_keys(i, parent)
        here = self.rigid[i] if parent < 0 else np.linalg.inv(self.rigid[parent]) @ self.rigid[i]
        return values | _values(here)

    def _own_keys(self, i, parent) -> dict:
        """The keys of its place that the file has itself, where what it rides on keeps its size."""
        node = self.asset.nodes[i]
        track = node.tracks.get("place")
        if not is_kept(track, self.frame_rate) or node.parent != parent:
            return {}
        if parent >= 0 and np.ptp(self.tracks.apart(parent)[1]) > 1e-6:
            return {}
        into = self.into[:3, :3] if parent < 0 else self.size[parent]
        return dict(zip(("x", "y", "z"), curves_of(track, self._frame_of, into), strict=True))

    def _frame_of(self, seconds):
        return self.first + (seconds - self.asset.span[0]) * self.frame_rate

    def _thing(self, i) -> Thing:
        node, own = self.asset.nodes[i], self._own(i)
        if own and node.mesh is not None:
            return self._subject(i)
        kind = "camera" if own and node.view is not None else "grip"
        values = self._placed(i)
        if kind == "camera":
            values["view"] = float(np.clip(node.view, 0.02, 3.0)) if np.isfinite(node.view) else 0.7
        return Thing(id=self._id(i), kind=kind, name=self.names.plain(node.name), values=values)

    def _id(self, i) -> str:
        return new_id() if i in self.rig_of else self.ids[i]

    def _subject(self, i) -> Thing:
        node, size, stack, targets, bind = self.asset.nodes[i], self.size[i], [], (), None
        if node.skin is not None:
            rig = self.rig_of[int(node.skin.joints[0])]
            size, stand, bind = bind_of(self.asset, i, rig, self.world, self.arrays.put)
            values = self._stands(i, stand)
        else:
            values = self._placed(i)
        mesh = self._sized(node.mesh, size)
        if node.targets:
            weights = node.felt(self.asset.span[0], 0) if node.felt is not None else np.zeros(len(node.targets))
            self._are_numbers(i, weights)
            away = [(name, added @ size.T) for name, added in node.targets]
            targets, stack = morphs_of(away, mesh.points, self.names, weights, self.arrays.put)
        if bind is not None:
            name = self.names.plain(f"Skin of {node.name}")
            stack.append(Thing(kind="skin", name=name, values={"skeleton": rig.id}, bind=bind))
        origin = {"file": str(self.asset.path.resolve()), "fit": " ".join(f"{x:.9g}" for x in size.ravel())}
        if node.points_at:  # the layer that plays what moves its points in the file
            played = origin | {"prim": node.points_at, "begins": float(self.first)}
            stack.insert(0, Thing(kind="played", name=self.names.plain("Played cache"), values=played))
        stack += self._by_axes(i)
        ref = self._reference(mesh).with_(**origin, node=self.paths[i])
        self.meshes.append((ref, mesh))
        return Thing(id=self._id(i), kind="subject", name=self.names.plain(node.name), values=values, mesh=ref,
                     stack=tuple(stack), targets=targets)  # fmt: skip

    def _by_axes(self, i) -> list[Thing]:
        """The layer that a mesh gets whose size changes by axes; what no axes of its own say is told."""
        node = self.asset.nodes[i]
        if self.tracks is None or not self.moving[i] or node.skin is not None:
            return []
        sizes, askew = self.tracks.by_axes(i)
        reach = _reach(node, self.size[i])
        if askew * reach > SKEWED:
            words = f"{node.name} is sheared by what it hangs on, by {format_length(askew * reach)} at the most"
            self.sheared.append(words)
        if np.abs(sizes - 1).max() * reach < SKEWED:
            return []
        values: dict = {}
        for name, own in zip(("size_x", "size_y", "size_z"), sizes.T, strict=True):
            moves = np.ptp(own) > 1e-6
            keys = (Key(frame=float(f), value=float(s)) for f, s in zip(self.frames, own, strict=True))
            values[name] = Curve(keys=tuple(keys)) if moves else float(own[0])
        return [Thing(kind="axes_size", name=self.names.plain(f"Size of {node.name}"), values=values)]

    def _are_numbers(self, i, weights) -> None:
        if not np.isfinite(weights).all():
            what = f"{self.asset.path.name}, {self.asset.nodes[i].name}"
            raise EstampaError(what, "has morph weights that are no numbers.", "Export its animation again.")

    def _sized(self, mesh, size):
        """The mesh with a size in its points: one for all nodes that show the same mesh at the same size."""
        key = id(mesh), size.tobytes()
        if key not in self.shared:
            self.shared[key] = sized(mesh, size)
        return self.shared[key]

    def _reference(self, mesh):
        if id(mesh) not in self.references:
            self.references[id(mesh)] = reference(self.arrays, mesh, self.asset.path.name)
        return self.references[id(mesh)]

    def _stands(self, i, stand) -> dict:
        """Where the subject of a skinned node stands: its joints move it, and what it is under only where that stands
        still (glTF 2.0, section 3.7.3.3: its own node does not)."""
        here, parent = np.eye(4), self.asset.nodes[i].parent
        here[:3, 3] = stand
        if parent not in self.rides_on or self.moving[parent] or self.asset.nodes[parent].joint:
            return _values(here)
        return {"parent": self.rides_on[parent]} | _values(np.linalg.inv(self.rigid[parent]) @ here)

    def _skeleton(self, rig, name, values) -> Thing:
        above = self.rigid[rig.above] if rig.above >= 0 else np.eye(4)
        return skeleton_of(self.asset, rig, name, self.names, values, self.world, above)

    # -- motion ------------------------------------------------------------------------------------------------
    def _frames(self, clip) -> np.ndarray:
        ends = self.asset.clips[clip].span if self.asset.clips else (0.0, 0.0)
        count = int(np.ceil(max(ends[1] - ends[0], 0.0) * self.frame_rate - 1e-6)) + 1
        if count > MOST_FRAMES:
            cause = f"moves for {ends[1] - ends[0]:,.0f} s, which are {count:,} frames."
            raise EstampaError(self.asset.path.name, cause, f"Cut it shorter; {MOST_FRAMES:,} are the most.")
        return self.first + np.arange(count, dtype=float)

    def _seconds(self, clip, frames) -> np.ndarray:
        begin, end = self.asset.clips[clip].span
        return np.minimum(begin + (frames - self.first) / self.frame_rate, end)

    def _course(self, clip, frames) -> "_ImportedCourse":
        """Where nodes stand over the frames of a clip."""
        if clip == 0 and self.tracks is not None:
            return self.tracks
        nodes, own = self.asset.nodes, np.flatnonzero(self.moving)
        if len(own) * len(frames) > MOST_PLACES:
            cause = f"moves {len(own):,} parts over {len(frames):,} frames."
            raise EstampaError(self.asset.path.name, cause, "Take fewer of them, or cut it shorter.")
        world, number = np.zeros((len(frames), len(own), 4, 4)), {int(i): k for k, i in enumerate(own)}
        for f, at in enumerate(self._seconds(clip, frames)):
            self.progress(0.6 * f / len(frames), f"Reading {self.asset.clips[clip].name}")
            for k, i in enumerate(own):
                node = nodes[i]
                local = node.local if node.moves is None else node.moves(at, clip)
                above = self.into if node.parent < 0 else self.world[node.parent]
                world[f, k] = (world[f, number[node.parent]] if node.parent in number else above) @ local
        bad = np.argwhere(~np.isfinite(world).all(axis=(2, 3)))
        if len(bad):
            f, k = bad[0]
            cause = f"goes where there are no numbers, at frame {frames[f]:g}."
            raise EstampaError(f"{self.asset.path.name}, {nodes[own[k]].name}", cause, "Export its animation again.")
        return _ImportedCourse(world, number, self.world, self.size)

    def _with_clips(self, things) -> list[Thing]:
        """The skeletons and the subjects with morph targets, with a clip for each animation that moves them."""
        by_id = {t.id: k for k, t in enumerate(things)}
        felt = [i for i in self.wanted if self.asset.nodes[i].felt is not None and self.ids[i] in by_id]
        for k, clip in enumerate(self.asset.clips if self.rigs or felt else ()):
            frames = self._frames(k)
            course = self._course(k, frames) if self.rigs and len(frames) > 1 else None
            for rig in self.rigs if course is not None else ():
                above = np.tile(np.eye(4), (len(frames), 1, 1))
                if rig.above >= 0:
                    above, grown = course.apart(rig.above)
                    above[:, :3, :3] *= grown[:, None, None]
                at = by_id[rig.id]
                joints = np.stack([course.of(j) for j in rig.joints], axis=1)
                things[at] = posed(things[at], rig, clip.name, frames, joints, above)
            for i in felt:
                subject = things[by_id[self.ids[i]]]
                layers = subject.layers_of("morph")
                weights = np.array([self.asset.nodes[i].felt(t, k) for t in self._seconds(k, frames)])
                self._are_numbers(i, weights)
                track = self.asset.nodes[i].tracks.get("weights") if k == 0 else None
                curves = curves_of(track, self._frame_of) if is_kept(track, self.frame_rate) else None
                kept = felt_over(layers, weights, frames, curves)
                things[by_id[subject.id]] = with_clip(subject, clip.name, frames, kept)
            self.end = max(self.end, int(np.ceil(frames[-1])))
        return things


def bring_in(scene: Scene, asset: Asset, take=None, unit=None, up=None, progress=lambda share, text: None) -> Prepared:
    """Prepare what is taken of an asset and put it into a scene, in one step of the history."""
    found = prepare(asset, Names(scene.doc), scene.doc.frame_rate, take, unit, up, progress, scene.doc.start)
    put(scene, found, asset.path.name)
    return found


def put(scene: Scene, found: Prepared, source: str) -> None:
    """Put what was prepared into a scene; the shot grows to the last key."""
    scene.arrays.take(found.arrays)
    for ref, mesh in found.meshes:
        scene.know_mesh(ref, mesh)
    names = Names(scene.doc)  # edits may have taken some since it was prepared
    things = tuple(t.with_(name=names.plain(t.name)) for t in found.things)
    doc = scene.doc.adding(*things)
    if found.end > doc.end:
        doc = doc.with_(end=found.end)
    scene.apply(f"Import {source}", doc)


def _wanted(asset: Asset, take) -> list[int]:
    """Nodes that come in: those that hold something and are taken, and what carries them."""
    chosen = np.zeros(len(asset.nodes), bool)
    for i in range(len(asset.nodes) - 1, -1, -1):
        node = asset.nodes[i]
        own = (node.mesh is not None or node.view is not None) and (take is None or i in take)
        chosen[i] |= own
        if own and node.skin is not None:
            chosen[node.skin.joints] = True
        if chosen[i] and node.parent >= 0:
            chosen[node.parent] = True
    for i in range(len(asset.nodes) - 1, -1, -1):  # joints may stand behind what follows them
        if chosen[i] and asset.nodes[i].parent >= 0:
            chosen[asset.nodes[i].parent] = True
    return np.flatnonzero(chosen).tolist()


def _rigid(world) -> tuple[np.ndarray, np.ndarray]:
    """((n, 4, 4) where nodes stand, without sizes, (n, 3, 3) what is left of them: sizes, mirrors, shears)."""
    rigid = np.tile(np.eye(4), (len(world), 1, 1))
    rigid[:, :3, :3], rigid[:, :3, 3] = squared(world[:, :3, :3]), world[:, :3, 3]
    return rigid, rigid[:, :3, :3].transpose(0, 2, 1) @ world[:, :3, :3]


def sized(mesh: Mesh, size) -> Mesh:
    """The mesh with a node's size in its points; mirrored, its faces go round the other way."""
    if np.allclose(size, np.eye(3), atol=1e-12):
        return mesh
    made = mesh.with_points(mesh.points @ size.T)
    for held in (made.corners, made.vertices):
        if "normal" in held:
            turned = held["normal"].astype(float) @ np.linalg.pinv(size)  # of no size, those are none
            turned /= np.maximum(np.linalg.norm(turned, axis=1, keepdims=True), 1e-30)
            held["normal"] = turned.astype(np.float32)
    if np.linalg.det(size) >= 0:
        return made
    order = mesh.other_way_round
    corners = {n: v[order] for n, v in made.corners.items()}
    return Mesh(made.points, mesh.face_counts, mesh.face_indices[order], mesh.uv, mesh.materials, mesh.face_materials,
                mesh.pieces, corners, None, made.vertices, made.faces)  # fmt: skip


def _values(matrix) -> dict[str, float]:
    angles = to_euler(turns_of(squared(matrix[None, :3, :3])))[0]
    found = dict(zip(CHANNELS, map(float, (*matrix[:3, 3], *angles)), strict=True))
    return {n: v for n, v in found.items() if abs(v) > 1e-12}


class _ImportedCourse:
    """Where nodes stand over frames: world (f, m, 4, 4) of those that move, by their `number`; rest (n, 4, 4) of all,
    size (n, 3, 3) what is in their points."""

    def __init__(self, world, number, rest, size):
        self.world, self.number, self.rest, self.size = world, number, rest, size

    def of(self, node) -> np.ndarray:
        """(f, 4, 4) in the world."""
        if node in self.number:
            return self.world[:, self.number[node]]
        return np.tile(self.rest[node], (len(self.world), 1, 1))

    def apart(self, node) -> tuple[np.ndarray, np.ndarray]:
        """((f, 4, 4) where a node stands, without the size that it has at rest, (f,) how large it is against that)."""
        # what it has at rest is taken off as it is: split anew at each frame, a mirrored one would turn by itself
        rigid = self.of(node).copy()
        own = rigid[:, :3, :3] @ np.linalg.pinv(self.size[node])
        rigid[:, :3, :3] = squared(own)
        return rigid, np.maximum(np.abs(np.linalg.det(own)), 1e-30) ** (1 / 3)

    def by_axes(self, node) -> tuple[np.ndarray, float]:
        """((f, 3) how large it is along each of its own axes against its size as a whole, how far it is sheared beside
        that at the most, as a share of it)."""
        rigid, share = self.apart(node)
        own = self.of(node)[:, :3, :3] @ np.linalg.pinv(self.size[node])
        left = rigid[:, :3, :3].transpose(0, 2, 1) @ own / share[:, None, None]
        sizes = np.diagonal(left, axis1=1, axis2=2)
        return sizes, float(np.abs(left - sizes[:, None] * np.eye(3)).max())


def _keys(tracks, i, parent, frames, reach, name) -> dict[str, Curve | float]:
    here, share = tracks.apart(i)
    if parent >= 0:  # what it rides on takes it along as it grows
        above, grown = tracks.apart(parent)
        here, share = np.linalg.inv(above) @ here, share / np.maximum(grown, 1e-30)
        here[:, :3, 3] /= grown[:, None]
    place = Place(here[:, :3, 3], here[:, :3, :3], np.ones(len(here)))
    found, _ = placed_by_keys([name], frames, [place], [reach], CLOSE)
    values = {n: v for (_, n), v in found.items() if isinstance(v, Curve) or abs(v) > 1e-12}
    if np.ptp(share) > 1e-4:
        keys = (Key(frame=float(f), value=float(s)) for f, s in zip(frames, share, strict=True))
        values["size"] = Curve(keys=tuple(keys))
    elif abs(share[0] - 1) > 1e-6:
        values["size"] = float(share[0])
    return values


def _reach(node, size) -> float:
    """m, how far the points of a node lie from where it stands."""
    if node.mesh is None:
        return 0.1
    return float(np.linalg.norm(node.mesh.points @ size.T, axis=1).max())
