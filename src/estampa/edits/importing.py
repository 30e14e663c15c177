"""Bringing in an asset: its nodes become subjects, grips and cameras that ride on one another, its animation keys."""

from dataclasses import dataclass, field

import numpy as np

from ..baking.bodies import CHANNELS, placed_by_keys
from ..baking.reduce import Tolerance
from ..errors import EstampaError
from ..formats.asset import Asset, into_metres
from ..geometry.mesh import Mesh
from ..geometry.place import Place
from ..geometry.pose import squared, to_euler, turns_of
from ..scene.curves import Curve, Key
from ..scene.document import Thing, new_id
from ..scene.scene import Scene
from .names import Names
from .things import mesh_ref

KEYS = Tolerance(0.0005, float(np.radians(0.1)))
MOST_FRAMES = 20_000


@dataclass
class Prepared:
    """What is to come in: made beside the window, put in at once."""

    things: list[Thing]
    meshes: dict[str, Mesh]  # by id of the thing
    origins: dict[str, dict]  # by id of the thing: file, node and fit, see document.MeshRef
    end: int  # the last frame that any key stands at; 0 where nothing moves
    words: list[str] = field(default_factory=list)


def prepare(
    asset: Asset, names: Names, frame_rate: float, take=None, unit: float | None = None, up: str | None = None,
    progress=lambda share, text: None, first: int = 1,
) -> Prepared:  # fmt: skip
    """The things that the taken nodes (all, when None) become, in metres with +Y up.

    A node that only carries others becomes a grip. Sizes that differ along the axes, mirrors and shears go into the
    points, so that what rides on it keeps its shape. Animation is sampled at the frame rate, and becomes as few keys as
    0.5 mm and 0.1 degrees allow.
    """
    nodes, into = asset.nodes, into_metres(unit or asset.unit, up or asset.up)
    wanted = _wanted(asset, take)
    if not wanted:
        raise EstampaError(asset.path.name, "has nothing that was ticked.", "Tick what is to come in.")
    world, moving = np.zeros((len(nodes), 4, 4)), np.zeros(len(nodes), bool)
    for i, node in enumerate(nodes):
        world[i] = (into if node.parent < 0 else world[node.parent]) @ node.local
        moving[i] = node.moves is not None or (node.parent >= 0 and moving[node.parent])
    frames = _frames(asset, frame_rate, first) if moving[wanted].any() else np.array([float(first)])
    rigid, size = _rigid(world)
    tracks = _tracks(asset, into, size, frames, first, frame_rate, progress) if len(frames) > 1 else None
    ids, things, meshes, origins, words = {i: new_id() for i in wanted}, [], {}, {}, []
    paths = asset.paths()
    for count, i in enumerate(wanted):
        progress(0.6 + 0.4 * count / len(wanted), f"Placing {nodes[i].name}")
        node, parent = nodes[i], nodes[i].parent if nodes[i].parent in ids else -1
        own = take is None or i in take  # one that is not ticked only carries others
        mesh, view = (node.mesh, node.view) if own else (None, None)
        kind = "subject" if mesh is not None else "camera" if view is not None else "grip"
        values = {} if parent < 0 else {"parent": ids[parent]}
        if tracks is not None and moving[i]:
            values |= _keys(tracks, i, parent, frames, _reach(node, size[i]), node.name)
        else:
            here = rigid[i] if parent < 0 else np.linalg.inv(rigid[parent]) @ rigid[i]
            values |= _values(here)
        if view is not None:
            values["view"] = float(np.clip(view, 0.02, 3.0))
        origin = {"file": str(asset.path.resolve()), "fit": " ".join(f"{x:.9g}" for x in size[i].ravel())}
        stack = ()
        if mesh is not None and node.points_at:  # the layer that plays what moves its points in the file
            played = origin | {"prim": node.points_at, "begins": float(first)}
            stack = (Thing(kind="played", name=names.plain("Played cache"), values=played),)
        thing = Thing(id=ids[i], kind=kind, name=names.plain(node.name), values=values, stack=stack)
        if mesh is not None:
            meshes[thing.id] = sized(mesh, size[i])
            origins[thing.id] = origin | {"node": paths[i]}
        things.append(thing)
    end = int(np.ceil(frames[-1])) if len(frames) > 1 else 0
    missing = sorted({m.missing for t in meshes.values() for m in t.materials if m.missing})
    words += [f"missing: {', '.join(missing)} (shown as a grey checker)"] if missing else []
    words += [f"left out: {w}" for w in dict.fromkeys(asset.left)]
    return Prepared(things, meshes, origins, end, words)


def bring_in(scene: Scene, asset: Asset, take=None, unit=None, up=None, progress=lambda share, text: None) -> Prepared:
    """Prepare what is taken of an asset and put it into a scene, in one step of the history."""
    found = prepare(asset, Names(scene.doc), scene.doc.frame_rate, take, unit, up, progress, scene.doc.start)
    put(scene, found, asset.path.name)
    return found


def put(scene: Scene, found: Prepared, source: str) -> None:
    """Put what was prepared into a scene; the shot grows to the last key."""
    meshes = found.meshes
    ref = lambda t: mesh_ref(scene, meshes[t.id], source, **found.origins[t.id])
    things = [t.with_(mesh=ref(t)) if t.id in meshes else t for t in found.things]
    doc = scene.doc.with_(things=(*scene.doc.things, *things))
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
        if chosen[i] and node.parent >= 0:
            chosen[node.parent] = True
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
    if "normal" in mesh.corners:
        turned = mesh.corners["normal"].astype(float) @ np.linalg.inv(size)
        turned /= np.maximum(np.linalg.norm(turned, axis=1, keepdims=True), 1e-30)
        made.corners["normal"] = turned.astype(np.float32)
    if np.linalg.det(size) >= 0:
        return made
    order = mesh.other_way_round
    corners = {n: v[order] for n, v in made.corners.items()}
    return Mesh(made.points, mesh.face_counts, mesh.face_indices[order], mesh.uv, mesh.materials, mesh.face_materials,
                mesh.pieces, corners)  # fmt: skip


def _values(matrix) -> dict[str, float]:
    angles = to_euler(turns_of(squared(matrix[None, :3, :3])))[0]
    found = dict(zip(CHANNELS, map(float, (*matrix[:3, 3], *angles)), strict=True))
    return {n: v for n, v in found.items() if abs(v) > 1e-12}


def _frames(asset, frame_rate, first) -> np.ndarray:
    seconds = max(asset.span[1] - asset.span[0], 0.0)
    count = int(np.ceil(seconds * frame_rate - 1e-6)) + 1
    if count > MOST_FRAMES:
        cause = f"moves for {seconds:,.0f} s, which are {count:,} frames."
        raise EstampaError(asset.path.name, cause, f"Cut it shorter; {MOST_FRAMES:,} are the most.")
    return first + np.arange(count, dtype=float)


def _tracks(asset, into, size, frames, first, frame_rate, progress) -> tuple[np.ndarray, np.ndarray]:
    """((f, n, 4, 4) where nodes stand over frames, without the sizes (n, 3, 3) that they have at rest, (f, n) how large
    they are against that)."""
    world = np.zeros((len(frames), len(asset.nodes), 4, 4))
    for f, frame in enumerate(frames):
        progress(0.6 * f / len(frames), "Reading animation")
        at = asset.span[0] + (frame - first) / frame_rate
        for i, node in enumerate(asset.nodes):
            local = node.local if node.moves is None else node.moves(min(at, asset.span[1]))
            world[f, i] = (into if node.parent < 0 else world[f, node.parent]) @ local
    # what it has at rest is taken off as it is: split anew at each frame, a mirrored one would turn by itself
    own = world[..., :3, :3] @ np.linalg.pinv(size)
    rigid = world.copy()
    rigid[..., :3, :3] = squared(own.reshape(-1, 3, 3)).reshape(own.shape)
    return rigid, np.maximum(np.abs(np.linalg.det(own)), 1e-30) ** (1 / 3)


def _keys(tracks, i, parent, frames, reach, name) -> dict[str, Curve | float]:
    rigid, grown = tracks
    here = rigid[:, i] if parent < 0 else np.linalg.inv(rigid[:, parent]) @ rigid[:, i]
    share = grown[:, i] if parent < 0 else grown[:, i] / np.maximum(grown[:, parent], 1e-30)
    if parent >= 0:  # what it rides on takes it along as it grows
        here[:, :3, 3] /= grown[:, parent, None]
    place = Place(here[:, :3, 3], here[:, :3, :3], np.ones(len(here)))
    found, _ = placed_by_keys([name], frames, [place], [reach], KEYS)
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
