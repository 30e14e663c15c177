"""Break: a closed mesh comes apart into cells, and looks as before until they move."""

import numpy as np
from scipy.sparse import csr_matrix

from ..errors import EstampaError
from ..geometry import cells, cutting
from ..geometry.bonds import shared
from ..geometry.mesh import CutFrom, Mesh, crossed
from ..geometry.pieces import is_closed, volume_of, volumes_of
from ..geometry.rough import SWING, rough, rough_apart
from ..kinds.channels import choice, number, ref, switch, whole
from ..lazy import spatial
from .remesh import Counts, Plan, Remesh

MOST, ASKED, JOINED = 100_000, 5_000, 20_000  # cells; a hand is asked before so many; small ones joined of so many
A_CELL, A_BYTE = 0.0009, 32_000  # s and bytes a cell (measured: 20,000 cells of 5,120 faces, two workers)
INSIDES = {  # linear light
    "plaster": ("Plaster", (0.70, 0.66, 0.58)),
    "clay": ("Clay", (0.42, 0.17, 0.09)),
    "wood": ("Wood", (0.45, 0.28, 0.14)),
    "stone": ("Stone", (0.24, 0.23, 0.22)),
    "glass": ("Glass", (0.45, 0.60, 0.58)),
    "dark": ("Dark", (0.03, 0.03, 0.035)),
}
_CELLS = ("how", ("cells",))
_BRICK = {"unit": "m", "soft": (0.02, 1), "hard": (1e-4, None), "fixed": True, "when": (("how", ("bricks", "planks")),)}
_STRETCH = {"unit": "factor", "soft": (1, 20), "hard": (0.01, 100), "fixed": True, "when": (_CELLS,)}
NEAR = 4  # vertices of the surface by which a vertex inside is carried along


class Break(Remesh):
    """Breaks a closed mesh into cells that other layers move. While nothing moves, it looks as it did before.

    Where the cuts gather may be told by the middle, the surface, a grip, a path or a weight map, and the cloud of cut
    points moved by a grip of its own. It cuts the shape that enters at the first frame, so it may stand below Thicken,
    Refine and what bends; the layers that move pieces stand below it.
    """

    kind, title = "break", "Break"
    parts_mesh = True
    icon = "M2.5 2.5 H13.5 V13.5 H2.5 Z M2.5 6 L7 8 L5.5 13.5 M7 8 L10 2.5 M7 8 L13.5 10"
    group = "fall"
    shortcut = "Ctrl+Alt+B"
    rank = 3
    version = 2  # the points that it cut around are kept
    slow = True
    presets = {
        "Pottery": {"how": "cells", "gather": "surface", "inner": "clay", "long_y": 1.0, "rough": 0.0},
        "Stone": {"how": "cells", "gather": "even", "inner": "stone", "long_y": 1.0, "rough": 0.8},
        "Splinters": {"how": "cells", "gather": "even", "inner": "wood", "long_y": 6.0, "rough": 0.3},
        "Brick wall": {"how": "bricks", "jitter": 0.1, "inner": "clay"},
        "Boards": {"how": "planks", "jitter": 0.0, "inner": "wood"},
    }

    how = choice(
        "cells", "What it comes apart into.",
        {"cells": "Cells", "bricks": "Bricks, in courses", "planks": "Planks, all in line"}, fixed=True,
    )  # fmt: skip
    count = whole(
        60, "How many cells are cut.", title="How many", soft=(2, 500), hard=(1, MOST), fixed=True,
        when=(_CELLS, ("gather", ("even", "middle", "surface", "near", "path", "map"))),
    )  # fmt: skip
    seed = whole(1, "Another throw of the dice.", soft=(1, 99), hard=(0, None), fixed=True)
    gather = choice("even", "Where the cuts gather.", cells.GATHER, fixed=True, when=(_CELLS,))
    spread = number(
        0.15, "How far from there the cuts thin out to about a third.", unit="m", soft=(0.01, 2), hard=(1e-4, None),
        fixed=True, when=(_CELLS, ("gather", ("middle", "surface", "near", "path"))), suits=("largest", 0.25),
    )  # fmt: skip
    thin = number(
        0.05, "Share of the cuts' density that is left far away.", title="Left elsewhere", unit="fraction", soft=(0, 1),
        hard=(0, 1), fixed=True, when=(_CELLS, ("gather", ("middle", "surface", "near", "path", "map"))),
    )  # fmt: skip
    around = ref("grip", "The grip that the cuts gather around, where it is at the first frame.", fixed=True,
                 when=(_CELLS, ("gather", ("near",))))  # fmt: skip
    path = ref("path", "The path that they gather along, or whose spots are their middles.", fixed=True,
               when=(_CELLS, ("gather", ("path", "spots"))))  # fmt: skip
    map = ref("map", "The weight map where they gather.", title="Weight map", fixed=True,
              when=(_CELLS, ("gather", ("map",))))  # fmt: skip
    cloud = ref(
        "grip", "A grip that moves, turns and sizes the cloud of cut points about the middle, apart from the mesh.",
        title="Cloud moved by", fixed=True, when=(_CELLS,),
    )  # fmt: skip
    long_x = number(
        1, "Above 1: splinters, so many times as long along X.", title="X", group="Longer along", **_STRETCH
    )
    long_y = number(1, "The same along Y.", title="Y", group="Longer along", **_STRETCH)
    long_z = number(1, "The same along Z.", title="Z", group="Longer along", **_STRETCH)
    brick_x = number(0.24, "Length of a brick.", title="X", group="Brick", suits=("largest", 0.2), **_BRICK)
    brick_y = number(0.08, "Height of a course.", title="Y", group="Brick", suits=("largest", 0.08), **_BRICK)
    brick_z = number(0.12, "Depth of a brick.", title="Z", group="Brick", suits=("largest", 0.2), **_BRICK)
    jitter = number(
        0.3, "Share of their size by which the joints are uneven.", unit="fraction", soft=(0, 0.9), hard=(0, 0.95),
        fixed=True, when=(("how", ("bricks", "planks")),),
    )  # fmt: skip
    rough = number(
        0, "How rough the bared faces and their edges are; the outside stays as it is.", unit="fraction", soft=(0, 1),
        hard=(0, 1), fixed=True, when=(_CELLS,),
    )  # fmt: skip
    grain = number(
        0.05, "How large the lumps of rough faces are.", unit="m", soft=(0.005, 0.5), hard=(1e-4, None), fixed=True,
        when=(_CELLS,), suits=("largest", 0.1),
    )  # fmt: skip
    gap = number(0, "How far cells are apart.", unit="m", soft=(0, 0.02), hard=(0, None), fixed=True)
    smallest = number(
        0.05, "Pieces smaller than this share of the mean are joined to the neighbour that they share most with; none "
        f"of more than {JOINED:,} cells.",
        title="Join smaller than", unit="fraction", soft=(0, 0.5), hard=(0, 1), fixed=True,
    )  # fmt: skip
    inner = choice("plaster", "The material of what is bared.", {n: words for n, (words, _) in INSIDES.items()},
                   title="Inside", fixed=True)  # fmt: skip
    loose = switch(
        True, "Parts of a cell that do not hang together are pieces of their own.", title="Loose parts too", fixed=True
    )

    @classmethod
    def asks(cls, values):
        count = values.get("count", 0)
        if not isinstance(count, int | float) or count <= ASKED:
            return ""
        return (
            f"{count:,.0f} cells take some {A_CELL * count:.0f} s to cut, more of a fine mesh, and "
            f"{A_BYTE * count / 1e9:.1f} GB of memory. They are kept then."
        )

    def work(self, mesh, v, weights, on_progress=None):
        """The cuts, as arrays. Raises EstampaError where the mesh holds no volume."""
        check(mesh)
        share = 0.6 if v["rough"] > 0 else 0.0  # of the work, what rough walls are
        at, corners = cells_of(mesh, v, weights, on_progress and (lambda x: on_progress(share * x)))
        triangles = mesh.triangles.astype(np.int64)
        try:
            found = cutting.cut(
                mesh.points,
                triangles,
                corners,
                on_progress=on_progress and (lambda x: on_progress(share + (1 - share) * x)),
            )
            if v["smallest"] > 0 and v["gap"] == 0 and 1 < len(corners) <= JOINED:
                found = joined(mesh, triangles, corners, found, v["smallest"])
        except cutting.CutRefused as err:
            raise EstampaError(
                "It", "cannot cut the mesh: its surface does not close, or goes through itself.",
                "Close its holes, or part it with Cut into pieces.", str(err),
            ) from err  # fmt: skip
        if not len(found.triangles):
            raise EstampaError("It", "leaves nothing: no cell meets the mesh.", "Move the cloud of cut points back.")
        return {n: getattr(found, n) for n in ("points", "triangles", "cell", "face", "share")} | {"seeds": at}

    def plan(self, mesh, v, weights, work):
        work = dict(work)
        seeds = work.pop("seeds")
        cuts = cutting.Cuts(**work)
        triangles, outside = cuts.triangles, cuts.face != cutting.INSIDE
        faces = np.where(outside, mesh.triangle_faces[np.maximum(cuts.face, 0)], 0)
        name, colour = INSIDES[v["inner"]]
        materials = mesh.materials or (("Outside", PLAIN),)
        own = np.zeros(len(faces), np.int32) if mesh.face_materials is None else mesh.face_materials[faces]
        own = np.where(outside, own, len(materials))
        names = (*mesh.corners, *mesh.vertices)
        corners = {n: _at_corners(mesh.of_corners(n)[mesh.triangle_corners], cuts, outside) for n in names}
        own_faces = {n: np.where(outside[:, None], x[faces], 0) for n, x in mesh.faces.items()}
        if mesh.triangle_uv is not None:
            corners["uv"] = _at_corners(mesh.triangle_uv, cuts, outside)
            corners["uv"][~outside.repeat(3)] = _flat_uv(cuts.points[triangles[~outside]]).reshape(-1, 2)
        corners["normal"] = _at_corners(mesh.normals(mesh.rest)[mesh.triangles], cuts, outside)
        corners["normal"][~outside.repeat(3)] = np.repeat(crossed(cuts.points[triangles[~outside]]), 3, axis=0)
        corners["normal"] /= np.maximum(np.linalg.norm(corners["normal"], axis=1, keepdims=True), 1e-12)
        made = Mesh.from_triangles(cuts.points, triangles)
        of_vertex = np.zeros(len(cuts.points), np.int64)
        of_vertex[triangles.ravel()] = np.repeat(cuts.cell, 3)
        pieces = made.islands if v["loose"] else of_vertex
        pieces = np.unique(pieces, return_inverse=True)[1]
        count = np.full(len(triangles), 3)
        made = Mesh(
            cuts.points, count, triangles.ravel(), None, (*materials, (f"Inside, {name.lower()}", colour)), own, pieces,
            corners, CutFrom(mesh, np.where(outside, cuts.face, -1), cuts.share, cuts.cell, _swing(v), seeds), None,
            own_faces,
        )  # fmt: skip
        carry = _carry(mesh, cuts, outside)
        return Plan(made, carry, made.points - carry @ mesh.points)

    def counts(self, of, v):
        # a cell of a solid has some 15 sides; about as many triangles more as there are, and those of the cells
        cells_ = int(v["count"]) if v["how"] == "cells" else 200
        walls = 42 + (18_000 * cells_ ** (-2 / 3) if _swing(v) else 0)  # of rough ones as the lumps are at first
        faces = 2 * of.triangles + int(walls * cells_)
        return Counts(faces // 2 + 2 * cells_, faces * 3 // 2, 0, faces, 3 * faces)


PLAIN = tuple(((c + 0.055) / 1.055) ** 2.4 for c in (0.83, 0.79, 0.72))  # linear, of what has no material


def check(mesh: Mesh) -> None:
    """Raises EstampaError where a mesh cannot be cut as a solid."""
    if mesh.crowded_edges:
        raise EstampaError(
            "It", f"cannot cut the mesh: {mesh.crowded_edges:,} of its edges have more than two faces.",
            "Take the extra faces out where it was made.",
        )  # fmt: skip
    if not is_closed(mesh.triangles):
        holes = mesh.open_edges
        cause = f"{holes:,} open edges" if holes else "faces that do not face the same way"
        raise EstampaError(
            "It", f"cuts closed meshes only, and this one has {cause}.",
            "Add Thicken above it, so that the surface has an inside, or close the holes.",
        )  # fmt: skip
    if mesh.size.min() < 1e-9 * mesh.size.max():
        raise EstampaError("It", "cannot cut the mesh: it is flat, and holds no volume.", "Thicken it first.")
    if volume_of(mesh.points, mesh.triangles) <= 0:
        raise EstampaError("It", "cannot cut the mesh: it is inside out.", "Turn its faces round where it was made.")


def cells_of(mesh: Mesh, v, weights=None, on_progress=None) -> tuple[np.ndarray, list]:
    """(middles (c, 3) m, each cell as `cutting.cut` takes it), as the channels say. Raises EstampaError when there is
    none."""
    low, high = mesh.bounds
    if v["how"] != "cells":
        size = np.array([v["brick_x"], v["brick_y"], v["brick_z"]])
        many = np.prod(np.maximum(np.ceil((high - low) / size), 1))
        if many > MOST:
            raise EstampaError("It", f"would cut {many:,.0f} bricks.", f"Make them larger: {MOST:,} are the most.")
        at, corners = cells.bricks(low, high, size, v["jitter"], v["seed"], v["how"] == "bricks")
        return at, cells.shrunk(corners, v["gap"]) if v["gap"] > 0 else corners
    at = seeds_of(mesh, v, weights)
    longer = np.array([v["long_x"], v["long_y"], v["long_z"]])
    stretch = None if (longer == 1).all() else np.diag(1 / longer)
    lumpy = (v["grain"], v["rough"], int(v["seed"]))
    if v["rough"] > 0 and v["gap"] == 0 and len(at) > 1:
        return at, rough(at, low, high, stretch, *lumpy, on_progress)
    corners = cells.voronoi(at, low, high, stretch)
    if v["gap"] > 0:
        corners = cells.shrunk(corners, v["gap"])
    return at, rough_apart(corners, low, high, *lumpy) if v["rough"] > 0 and v["gap"] > 0 else corners


def _swing(v) -> float:
    """m, how far rough walls are moved at the most."""
    return SWING * v["grain"] * v["rough"] if v["how"] == "cells" else 0.0


def seeds_of(mesh: Mesh, v, weights=None) -> np.ndarray:
    """(s, 3) m in the mesh's own space, the points that cells are cut around."""
    gather = v["gather"]
    sampled, place = v["path"] or (None, None)
    line = None if sampled is None else place.apply(sampled.points[None])[0]
    grip = None if v["around"] is None else v["around"].origin
    needed = {"near": (grip, "grip"), "path": (line, "path"), "spots": (line, "path"), "map": (weights, "weight map")}
    about, what = needed.get(gather, (None, ""))
    if what and about is None:
        raise EstampaError(
            "It", f"has no {what} for its cuts to gather at.", f"Choose one under “{what.capitalize()}”."
        )
    if gather == "spots":
        at = place.apply(sampled.spots[None])[0]
    else:
        density = cells.Density(gather, v["spread"], v["thin"], about if gather != "map" else None, weights)
        at = cells.seeds(mesh, int(v["count"]), int(v["seed"]), density)
    if v["cloud"] is not None:
        middle = (mesh.bounds[0] + mesh.bounds[1]) / 2
        at = v["cloud"].apply((at - middle)[None])[0]
    if not len(at):
        raise EstampaError("It", "has no cut point inside the mesh.", "Choose another place for the cuts to gather at.")
    return at[np.sort(np.unique(at.round(9), axis=0, return_index=True)[1])]


def joined(mesh, triangles, corners, cuts: cutting.Cuts, smallest: float) -> cutting.Cuts:
    """The same with cells smaller than a share of the mean joined to the neighbour that they share most with."""
    count = len(corners)
    volumes = volumes_of(cuts.points, cuts.triangles, cuts.cell, count)
    there = volumes > 0
    small = there & (volumes < smallest * volumes[there].mean())
    if not small.any() or small[there].all():
        return cuts
    inner = cuts.face == cutting.INSIDE
    a, b, area = shared(cuts.points, cuts.triangles[inner], cuts.cell[inner])[:3]
    group = np.arange(count)
    for cell in np.flatnonzero(small):
        mine = (a == cell) | (b == cell)
        if mine.any():
            best = np.flatnonzero(mine)[np.argmax(area[mine])]
            other = a[best] if b[best] == cell else b[best]
            group[group == group[cell]] = group[other]
    return cutting.united(mesh.points, triangles, corners, cuts, group)


def _at_corners(values, cuts, outside) -> np.ndarray:
    """(3 t, k) of what the corners of the mesh's triangles (f, 3, k) have; 0 inside."""
    found = np.zeros((len(outside), 3, values.shape[2]), np.float32)
    found[outside] = np.einsum("tck,tkj->tcj", cuts.share[outside], values[cuts.face[outside]])
    return found.reshape(-1, values.shape[2])


def _flat_uv(at) -> np.ndarray:
    """(t, 3, 2) texture coordinates of bared faces: metres along the two axes that they face least."""
    normal = np.abs(crossed(at))
    axes = np.array([[2, 1], [0, 2], [0, 1]])[np.argmax(normal, axis=1)]
    return np.take_along_axis(at, axes[:, None, :], axis=2)


def _carry(mesh, cuts, outside) -> csr_matrix:
    """Rows that carry what the mesh's vertices have: along the surface by shares, inside by the nearest vertices."""
    count = len(cuts.points)
    corner = cuts.triangles[outside].ravel()
    vertex, first = np.unique(corner, return_index=True)
    owners = mesh.triangles[cuts.face[outside]].repeat(3, axis=0)[first]
    shares = cuts.share[outside].reshape(-1, 3)[first]
    inside = np.setdiff1d(np.arange(count), vertex)
    near = min(NEAR, mesh.count)
    apart, nearest = spatial.cKDTree(mesh.points).query(cuts.points[inside], k=near)
    felt = 1 / np.maximum(np.reshape(apart, (len(inside), near)), 1e-12)
    felt /= felt.sum(axis=1, keepdims=True)
    rows = np.concatenate([np.repeat(vertex, 3), np.repeat(inside, near)])
    columns = np.concatenate([owners.ravel(), np.reshape(nearest, -1)])
    return csr_matrix((np.concatenate([shares.ravel(), felt.ravel()]), (rows, columns)), shape=(count, mesh.count))
