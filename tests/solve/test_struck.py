"""A veil that something fast runs into, judged by the exact test of ipctk; and the count of what crosses against it.

Nothing crosses, nothing is deeper than a tenth of the thickness, and nothing stays longer than it may be.
"""

import ipctk
import numpy as np
import pytest
import trimesh

from estampa import Scene
from estampa import edits as do
from estampa.errors import EstampaError
from estampa.fields.force import Floor, World
from estampa.geometry.mesh import Mesh
from estampa.geometry.primitives import sheet
from estampa.inspect.remarks.solved_cloth import goes_through
from estampa.solve.cloth import sheets
from estampa.solve.cloth.kind import Cloth
from estampa.solve.contact.crossings import crossings
from estampa.solve.contact.soup import edges_of, soup_of
from estampa.solve.contact.tree import Tree

from .test_contact import RATE, G, at, ball, channels, flat_at, obstacle, placed, rolled
from .test_contact import crossings as crossed

RADIUS, FRAMES = 0.12, 7
VOILE = Cloth.presets["Voile"]


def hung(count) -> tuple[Mesh, np.ndarray]:
    """(a square metre that hangs, which of its vertices are held: its upper edge)"""
    flat = sheet(1.0, 1.0, count - 1, count - 1)
    points = np.stack([flat.points[:, 0] - 0.5, flat.points[:, 2] - 1.0, np.zeros(flat.count)], axis=1)
    return flat.with_points(points), points[:, 1] > -1e-6


def middle(k, speed):
    """Where what strikes it is at a frame: 5 cm before it at first, then at so many m/s."""
    return np.array([0.03, -0.52, -RADIUS - 0.05 + max(k - 1, 0) * speed / RATE])


def strikes(shape, speed):
    points, triangles = ball(RADIUS)

    def world(k):
        both = tuple(at(*middle(j, speed)) for j in (k - 1, k))
        if shape == "mesh":
            moved = tuple(place.apply(points[None])[0] for place in both)
            solid = obstacle("mesh", now=both[1], points=moved, triangles=triangles)
        else:
            solid = obstacle(shape, (RADIUS,) * 3, *both)
        return World(np.array([0, -G, 0.0]), colliders=[solid])

    return world


def depth(points, shape, k, speed) -> float:
    """m that vertices are within what strikes, at the most."""
    off = points - middle(k, speed)
    if shape == "box":
        return float(-(np.abs(off) - RADIUS).max(axis=1).min())
    if shape == "sphere":
        return float(RADIUS - np.linalg.norm(off, axis=1).min())
    corners = trimesh.creation.icosphere(3, RADIUS).triangles  # convex: behind all of its faces is within
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    normal /= np.linalg.norm(normal, axis=1, keepdims=True)
    heights = np.stack([(off - c) @ n for c, n in zip(corners[:, 0], normal, strict=True)], axis=1)
    return float(-heights.max(axis=1).min())


def struck(shape, speed, thickness):
    mesh, pins = hung(25)
    v = channels(itself=True, pins=pins.astype(np.float32), thickness=thickness, patience=300.0, **VOILE)
    edges = ipctk.edges(mesh.triangles.astype(np.int32))
    rest = np.linalg.norm(mesh.points[edges[:, 0]] - mesh.points[edges[:, 1]], axis=1)
    within, faces = ball(RADIUS * 0.998)
    if shape == "box":
        made = trimesh.creation.box((2 * RADIUS * 0.998,) * 3)
        within, faces = made.vertices, made.faces
    long_for, most = np.zeros(len(edges), int), 0
    for k, state in enumerate(rolled(mesh, FRAMES, v, strikes(shape, speed)), 1):
        points = placed(state)
        assert crossed(points, mesh, [(within + middle(k, speed), faces)]) == 0, f"frame {k}"
        assert state["report"]["crossings"][0] == 0
        assert depth(points, shape, k, speed) < 0.1 * thickness, f"frame {k}"
        long = np.linalg.norm(points[edges[:, 0]] - points[edges[:, 1]], axis=1) / rest - 1
        long_for = np.where(long > 1.05 * v.limit, long_for + 1, 0)
        most = max(most, long_for.max())
    assert most <= 3, "no edge is longer than it may be for more than three frames"


@pytest.mark.slow
@pytest.mark.parametrize(("shape", "speed"), [("sphere", 20), ("mesh", 5)])
def test_what_is_fast_passes_nothing(shape, speed):
    struck(shape, speed, 0.003)


@pytest.mark.sweep
@pytest.mark.parametrize("speed", [5, 20, 60])
@pytest.mark.parametrize("shape", ["sphere", "box", "mesh"])
def test_what_is_fast_passes_nothing_thin(shape, speed):
    struck(shape, speed, 0.001)


def test_a_frame_that_takes_too_long_stops_and_names_what_it_meets(monkeypatch):
    """The clock is turned on by a second at each look, so that it does not depend on the machine."""
    passed = iter(range(10**6))
    monkeypatch.setattr(sheets, "seconds", lambda: float(next(passed)))
    mesh, pins = hung(12)
    v = channels(itself=True, pins=pins.astype(np.float32), patience=10.0)
    near = obstacle("sphere", (0.2, 0, 0), now=at(0.0, -0.5, -0.2), name="Buoy")
    with pytest.raises(EstampaError, match="longer than 10 s over one frame, where it meets Buoy"):
        rolled(mesh, 1, v, lambda k: World(np.array([0, -G, 0.0]), colliders=[near]))


# -- what crosses ----------------------------------------------------------------------------------------------------
@pytest.mark.parametrize("rough", [0.004, 0.01, 0.02])
def test_the_count_of_crossings_is_that_of_every_edge_against_every_triangle(rough):
    """By linear algebra of all pairs (NumPy), and by ipctk whether there are any."""
    mesh = flat_at(0.0, 0.5, 14)
    points = mesh.points + np.random.default_rng(3).normal(0, rough, mesh.points.shape)
    triangles = mesh.triangles.astype(np.int32)
    edges = edges_of(triangles)
    one = np.array([0.003]), np.array([0.3]), np.array([False])
    soup, _, _ = soup_of(mesh.points, triangles, edges, np.zeros(mesh.count, int), *one, [])
    found = crossings(points, soup, Tree.of(mesh.points, soup.triangles, soup.edges, soup.owner), soup.radius)
    # p + s (q - p) = a + u (b - a) + w (c - a), for all edges (p, q) and triangles (a, b, c)
    p, q = points[edges[:, 0]][:, None], points[edges[:, 1]][:, None]
    a, b, c = (points[triangles[:, k]][None] for k in range(3))
    shape = (len(edges), len(triangles), 3)
    shared = (edges[:, None, :, None] == triangles[None, :, None, :]).any(axis=(2, 3))
    columns = np.stack([np.broadcast_to(w, shape) for w in (q - p, a - b, a - c)], axis=-1)
    columns = np.where(shared[..., None, None], np.eye(3), columns)  # what shares a corner does not count
    s, u, w = np.moveaxis(np.linalg.solve(columns, (a - p)[..., None])[..., 0], -1, 0)
    through = (s > 0) & (s < 1) & (u > 0) & (w > 0) & (u + w < 1)
    assert len(found.edge) == (through & ~shared).sum()
    assert bool(len(found.edge)) == bool(crossed(points, mesh))


def test_crossings_that_stand_are_told_and_not_taken_for_none():
    """A sheet that begins through itself: it is counted as long as that stands."""
    mesh = flat_at(0.1, 0.4, 20)
    folded = mesh.points.copy()
    folded[np.abs(folded[:, 0]) < 0.05, 1] += 0.15 * (folded[np.abs(folded[:, 0]) < 0.05, 0] > 0)
    folded[folded[:, 0] > 0.1, 0] = 0.2 - folded[folded[:, 0] > 0.1, 0] - 0.15
    mesh = mesh.with_points(folded)
    state = rolled(mesh, 1, channels(itself=True), lambda k: World(np.zeros(3)))[0]
    assert state["report"]["crossings"][0] > 0 and crossed(placed(state), mesh)
    shown = state["crossings"]
    assert len(shown) == state["report"]["crossings"][0]
    assert all(np.isclose(placed(state), end, atol=1e-6).all(axis=1).any() for end in shown["begin"])


# -- lengths ---------------------------------------------------------------------------------------------------------
@pytest.mark.slow
def test_nothing_is_longer_than_the_limit_in_a_storm():
    """A flag held by two corners in 12 m/s, at defaults: 1.05 of the limit in 99.9 % of its edges, 1.2 in all."""
    flat = sheet(1.5, 1.1, 40, 30)
    mesh = Mesh(flat.points[:, [0, 2, 1]] * [1, -1, 1], flat.face_counts, flat.face_indices, flat.uv)
    corners = (mesh.points[:, 1] > -1e-9) & np.isin(mesh.points[:, 0], (0, 1.5))
    blown = {n: Cloth.channels[n].default for n in ("drag", "lift")}
    v = channels(**blown, pins=corners.astype(np.float32), itself=True)
    air = lambda x: np.broadcast_to([0.3, 0.0, 12.0], x.shape)
    world = World(np.array([0, -G, 0.0]), winds=[air], floors=[Floor(-50.0, 0.3)])
    edges = edges_of(mesh.triangles)
    rest = np.linalg.norm(mesh.points[edges[:, 0]] - mesh.points[edges[:, 1]], axis=1)
    for state in rolled(mesh, 24, v, lambda k: world):
        points = placed(state)
        share = (np.linalg.norm(points[edges[:, 0]] - points[edges[:, 1]], axis=1) / rest - 1) / v.limit
        assert (share <= 1.05).mean() >= 0.999 and share.max() <= 1.2
        assert crossed(points, mesh) == 0


def test_what_crosses_is_remarked_upon_with_its_frame(store):
    """A canvas that begins folded through itself: the first frame that shows it, and what it goes through."""
    flat = sheet(1.0, 1.0, 12, 12)
    points = flat.points - [0.5, -0.5, 0.5]
    fold = points[:, 0] > 0.2
    points[fold, 0] = 0.4 - points[fold, 0]
    points[fold, 1] += 0.05 * np.sign(points[fold, 2])
    scene = Scene()
    do.set_range(scene, start=1, end=4, frame_rate=24)
    canvas = do.add_mesh(scene, flat.with_points(points), "Canvas")
    rail = do.add_map(scene, canvas.id, (points[:, 0] < -0.49).astype(float), "Rail")
    layer = do.add_layer(scene, canvas.id, "cloth", "Sailcloth", values={"itself": True, "pins": rail.id})
    evaluator = scene.evaluator(store)
    evaluator.solve_through(4)
    remark = next(r for r in goes_through(evaluator))
    assert remark.thing == layer.id and remark.frame == 1
    assert "4 frames: first at 1 (Canvas itself)" in remark.wrong
