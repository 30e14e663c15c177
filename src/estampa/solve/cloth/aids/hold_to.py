"""Hold to: a part of a cloth follows something else, until it is let go."""

from dataclasses import replace

import numpy as np

from ....kinds.channels import choice, number, ref, switch
from ....lazy import spatial
from ...aid import AidInputs
from ..cloth_aid import EASE, HARD, ClothAid

WHAT = {"grip": "A grip or joint", "surface": "A subject's surface", "path": "A path, free to slide along it"}


class HoldTo(ClothAid):
    """A part of the cloth above it follows a grip, a joint or a subject's surface, or slides along a path.

    Where the cloth is held by its own map too, this one wins. It holds as the vertices stood at the first frame that is
    solved, adopted or not; onto a path they are drawn over some frames.
    """

    kind, title = "hold_to", "Hold to"
    holds = True
    icon = "M3 3 H13 V6 H3 Z M5 6 V9.5 C5 12 8 12 8 14 M11 6 V9.5 C11 12 8 12 8 14"
    group = "fall"
    rank = 3
    follows = True

    to = choice("grip", "What it follows.", WHAT, title="Held to")
    grip = ref("placed", "The grip or joint that it follows.", title="Grip", when=(("to", ("grip",)),))
    subject = ref(
        "subject", "The subject whose surface it follows, deformed and all.", title="Surface of",
        when=(("to", ("surface",)),),
    )  # fmt: skip
    path = ref("path", "The path that it slides along, as rings do on a rail.", when=(("to", ("path",)),))
    width = number(0.01, "Of a ring, along the path: none comes nearer to the next, or passes it.", title="Ring width",
                   unit="m", soft=(0, 0.1), hard=(0, None), when=(("to", ("path",)),))  # fmt: skip
    ease = replace(EASE, when=(("to", ("path",)),))
    ends = switch(False, "It lets go at a frame, and the cloth goes on with the speed that it has.", title="Lets go")
    at = number(60, "The first frame at which it holds no longer.", title="At frame", unit="frames", soft=(1, 240),
                fixed=True, when=(("ends", (True,)),))  # fmt: skip

    def hold(self, aid_inputs, holding):
        """It wins over what held the cloth so far; what it ties to a path may slide along it."""
        own, x = weights_of(aid_inputs, holding.first), holding.place
        held = own > 0
        found = targets(aid_inputs, holding.first, x, held, holding.surfaces) if held.any() else None
        if found is None:
            return
        before, now, along, spot = found
        if aid_inputs.v.to == "path":
            holding.weight[held] = 0  # they are held by what ties them
            if aid_inputs.share < 1:  # from where they stand onto the path
                left = (1 - aid_inputs.share) / max(1 - aid_inputs.share_before, 1e-9)
                before, now = x[held].astype(float), now + left * (x[held] - now)
            soft = (2 * np.pi * holding.hold) ** 2 * own[held] / (1 - np.minimum(own[held], 0.9999))
            grip = np.where(own[held] >= HARD, np.inf, soft)
            order, room = _in_order(aid_inputs, holding, held)
            rings = (np.flatnonzero(held), before, now, grip, along, spot)
            holding.slides.append((*(values[order] for values in rings), room))
            return
        holding.weight[held] = own[held]
        holding.before[held], holding.now[held] = before, now


def weights_of(aid_inputs: AidInputs, points: np.ndarray) -> np.ndarray:
    """(n,) how strongly each vertex is held now, 0 to 1."""
    v = aid_inputs.v
    if v.ends and aid_inputs.frame >= v.at:
        return np.zeros(len(points))
    weight = np.ones(len(points)) if v.map is None else v.map.astype(float)
    if v.zone is not None:
        weight = weight * v.zone(points[None])[0]
    return np.clip(weight * float(np.ravel(v.strength)[0]), 0, 1)


def targets(aid_inputs: AidInputs, first: np.ndarray, x: np.ndarray, held: np.ndarray, surfaces: dict):
    """Where vertices are drawn to: (before (k, 3), now (k, 3), free way (k, 3), m along a path (k,)) of those `held`,
    or None where it names nothing.

    first (n, 3) m -- the cloth as it enters at the first frame; x (n, 3) m -- as it is; surfaces -- a cache
    """
    v, own = aid_inputs.v, np.zeros((int(held.sum()), 3))
    if v.to == "path":
        if v.path is None:
            return None
        to, along, spot = on_path(v.path, x[held])
        return to, to, along, spot
    if v.to == "surface":
        parts = (aid_inputs.first.subject, aid_inputs.before.subject, v.subject)
        if any(p is None for p in parts):
            return None
        return (*_on_surface(parts, first[held], surfaces), own, own[:, 0])
    parts = (aid_inputs.first.grip, aid_inputs.before.grip, v.grip)
    if any(p is None for p in parts):
        return None
    at_first = parts[0].inverse().apply(first[held][None])
    return parts[1].apply(at_first)[0], parts[2].apply(at_first)[0], own, own[:, 0]


def _in_order(aid_inputs, holding, held):
    """((k,) the held vertices in the order in which they hung on the path at first, (k,) m that each keeps to the next:
    a ring's width, or what there was between them at first where that is less)."""
    key = ("rings", aid_inputs.id, held.tobytes())
    if key not in holding.surfaces:
        spot = on_path(aid_inputs.first.path or aid_inputs.v.path, holding.first[held])[2]
        order = np.argsort(spot, kind="stable")
        holding.surfaces[key] = order, np.diff(spot[order])
    order, apart = holding.surfaces[key]
    return order, np.append(np.minimum(float(np.ravel(aid_inputs.v.width)[0]), apart), -1.0)


def on_path(course, points: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """((k, 3) m the places on a path that are nearest to points (k, 3), (k, 3) its way there, (k,) m along it)."""
    sampled, place = course
    line = place.apply(sampled.points[None])[0]
    a, way = line[:-1], np.diff(line, axis=0)
    long2 = np.maximum((way**2).sum(axis=1), 1e-300)
    share = np.clip(np.einsum("kmj,mj->km", points[:, None] - a[None], way) / long2, 0, 1)
    at = a[None] + share[..., None] * way[None]
    best = ((at - points[:, None]) ** 2).sum(axis=2).argmin(axis=1)
    rows = np.arange(len(points))
    along = way[best] / np.sqrt(long2[best])[:, None]
    ends = ((best == 0) & (share[rows, best] <= 0)) | ((best == len(a) - 1) & (share[rows, best] >= 1))
    along[ends & (not sampled.closed)] = 0  # it does not slide off the end
    begun = np.concatenate([[0.0], np.cumsum(np.sqrt(long2))])
    return at[rows, best], along, begun[best] + share[rows, best] * np.sqrt(long2[best])


def _on_surface(parts, first, surfaces):
    """Points that keep their place over the nearest triangle, in its own axes: (before, now)."""
    at_first, mesh = parts[0].points[0], parts[0].mesh
    key = first.tobytes()
    if key not in surfaces:
        middles = at_first[mesh.triangles].mean(axis=1)
        corners = mesh.triangles[spatial.cKDTree(middles).query(first)[1]]
        origin, axes = _frames(at_first, corners)
        surfaces[key] = corners, np.einsum("kij,ki->kj", axes, first - origin)
    corners, local = surfaces[key]
    found = []
    for part in parts[1:]:
        origin, axes = _frames(part.points[0], corners)
        found.append(origin + np.einsum("kij,kj->ki", axes, local))
    return found


def _frames(points, corners):
    """((k, 3) middles, (k, 3, 3) axes as columns) of triangles."""
    a, b, c = (points[corners[:, k]] for k in range(3))
    unit = lambda w: w / np.maximum(np.linalg.norm(w, axis=1, keepdims=True), 1e-300)
    x = unit(b - a)
    z = unit(np.cross(b - a, c - a))
    return (a + b + c) / 3, np.stack([x, np.cross(z, x), z], axis=2)
