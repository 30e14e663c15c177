"""Cells and cuts, against SciPy, trimesh and the densities that they are drawn from."""

import numpy as np
import pytest
import trimesh
from scipy import stats
from scipy.spatial import ConvexHull, Voronoi, cKDTree

from estampa.geometry import cells, cutting
from estampa.geometry.bonds import shared
from estampa.geometry.inside import is_inside
from estampa.geometry.mesh import Mesh
from estampa.geometry.rough import rough

pytestmark = pytest.mark.quick


def of(made: trimesh.Trimesh) -> Mesh:
    return Mesh.from_triangles(np.asarray(made.vertices), np.asarray(made.faces))


def test_points_are_inside_where_the_winding_number_says_so():
    # trimesh's capsule and a ring: reference by the solid angle (Van Oosterom and Strackee 1983)
    ring = trimesh.creation.torus(0.7, 0.2)
    at = np.random.default_rng(3).uniform(-1, 1, (4000, 3))
    p = ring.triangles[None] - at[:, None, None]
    long = np.linalg.norm(p, axis=3)
    a, b, c = p[:, :, 0], p[:, :, 1], p[:, :, 2]
    over = np.einsum("ktj,ktj->kt", a, np.cross(b, c))
    la, lb, lc = long.transpose(2, 0, 1)
    under = la * lb * lc + (a * b).sum(2) * lc + (b * c).sum(2) * la + (c * a).sum(2) * lb
    winding = np.arctan2(over, under).sum(axis=1) / (2 * np.pi)
    assert (is_inside(of(ring), at) == (winding > 0.5)).all()


@pytest.mark.parametrize("shape", [trimesh.creation.box((1, 0.5, 0.8)), trimesh.creation.icosphere(3)])
def test_cells_fill_the_mesh_and_each_is_closed_and_convex(shape):
    mesh = of(shape)
    at = cells.seeds(mesh, 120, 4, cells.Density())
    cuts = cutting.cut(mesh.points, mesh.triangles.astype(np.int64), cells.voronoi(at, *mesh.bounds), 0)
    volumes = []
    for cell in range(120):
        own = trimesh.Trimesh(cuts.points, cuts.triangles[cuts.cell == cell], process=False)
        own.remove_unreferenced_vertices()
        assert own.is_watertight and own.is_winding_consistent
        assert own.convex_hull.volume == pytest.approx(own.volume, rel=1e-6)  # convex within a convex mesh
        volumes.append(own.volume)
    assert sum(volumes) == pytest.approx(shape.volume, rel=1e-6)


@pytest.mark.parametrize("shape", [trimesh.creation.box((1, 0.5, 0.8)), trimesh.creation.icosphere(3)])
@pytest.mark.parametrize("stretch", [None, np.diag([1, 1 / 6, 1])])
def test_rough_cells_still_fill_the_mesh_and_lie_on_one_another(shape, stretch):
    # trimesh's own test of closedness and its volumes; each wall is bared on both sides alike
    mesh = of(shape)
    at = cells.seeds(mesh, 60, 4, cells.Density())
    made = rough(at, *mesh.bounds, stretch, 0.15, 1.0, 3)
    cuts = cutting.cut(mesh.points, mesh.triangles.astype(np.int64), made, 0)
    parts = [trimesh.Trimesh(cuts.points, cuts.triangles[cuts.cell == cell], process=False) for cell in range(60)]
    for own in parts:
        own.remove_unreferenced_vertices()
        assert own.is_watertight and own.is_winding_consistent
    assert sum(own.volume for own in parts) == pytest.approx(shape.volume, rel=1e-9)
    inner = cuts.face == cutting.INSIDE
    found = shared(cuts.points, cuts.triangles[inner], cuts.cell[inner])
    assert 2 * found.area.sum() == pytest.approx(trimesh.triangles.area(cuts.points[cuts.triangles[inner]]).sum())
    bent = [own for own in parts if len(own.faces) > 8]
    assert np.mean([own.convex_hull.volume / own.volume for own in bent]) > 1.05, "the walls are flat"


def test_a_cell_is_where_its_seed_is_the_nearest():
    mesh = of(trimesh.creation.box((1, 1, 1)))
    at = cells.seeds(mesh, 50, 1, cells.Density())
    tried = np.random.default_rng(0).uniform(-0.5, 0.5, (100_000, 3))
    nearest = cKDTree(at).query(tried)[1]
    for cell, corners in enumerate(cells.voronoi(at, *mesh.bounds)):
        sides = ConvexHull(corners).equations
        within = (tried @ sides[:, :3].T + sides[:, 3] <= 1e-9).all(axis=1)
        assert (within == (nearest == cell)).all()


def test_volumes_in_a_cube_are_those_of_mirrored_seeds():
    # seeds mirrored at each side close the outer cells exactly: SciPy's own Voronoi volumes
    mesh = of(trimesh.creation.box((1, 1, 1)))
    at = cells.seeds(mesh, 40, 2, cells.Density())
    cuts = cutting.cut(mesh.points, mesh.triangles.astype(np.int64), cells.voronoi(at, *mesh.bounds), 0)
    mirrored = [at] + [np.where(np.arange(3) == j, side - at, at) for j in range(3) for side in (-1.0, 1.0)]
    made = Voronoi(np.concatenate(mirrored))
    p = cuts.points[cuts.triangles]
    six = np.einsum("tj,tj->t", p[:, 0], np.cross(p[:, 1], p[:, 2]))
    volumes = np.bincount(cuts.cell, six, 40) / 6
    expected = [ConvexHull(made.vertices[made.regions[made.point_region[i]]]).volume for i in range(40)]
    assert volumes == pytest.approx(expected, rel=1e-6)


def test_what_two_cells_share_is_the_area_of_their_ridge():
    mesh = of(trimesh.creation.box((1, 1, 1)))
    at = cells.seeds(mesh, 40, 2, cells.Density())
    cuts = cutting.cut(mesh.points, mesh.triangles.astype(np.int64), cells.voronoi(at, *mesh.bounds), 0)
    inner = cuts.face == cutting.INSIDE
    a, b, area = shared(cuts.points, cuts.triangles[inner], cuts.cell[inner])[:3]
    mirrored = [at] + [np.where(np.arange(3) == j, side - at, at) for j in range(3) for side in (-1.0, 1.0)]
    made = Voronoi(np.concatenate(mirrored))
    expected = {}
    for pair, ridge in zip(made.ridge_points, made.ridge_vertices, strict=True):
        if pair.max() < 40:
            p = made.vertices[ridge]
            parts = np.cross(p[1:-1] - p[0], p[2:] - p[0]).sum(axis=0)
            expected[tuple(sorted(pair))] = np.linalg.norm(parts) / 2
    found = dict(zip(zip(a.tolist(), b.tolist(), strict=True), area, strict=True))
    large = {pair: x for pair, x in expected.items() if x > 1e-4}
    assert {pair: found[pair] for pair in large} == pytest.approx(large, rel=0.01)
    assert sum(found.values()) == pytest.approx(sum(expected.values()), rel=1e-4)


def test_seeds_are_spread_by_their_density():
    # Kolmogorov-Smirnov, against the law of each
    cube = of(trimesh.creation.box((1, 1, 1)))
    even = cells.seeds(cube, 4000, 7, cells.Density())
    for j in range(3):
        assert stats.kstest(even[:, j] + 0.5, "uniform").pvalue > 0.01
    ball = of(trimesh.creation.icosphere(4))
    middle = cells.seeds(ball, 4000, 7, cells.Density("middle", 0.3, 0.0))
    r = np.linalg.norm(middle, axis=1)
    # exp(-(r / s)^2) over a volume: r is Maxwell's law with a = s / sqrt 2
    assert stats.kstest(r, stats.maxwell(scale=0.3 / np.sqrt(2)).cdf).pvalue > 0.01
    near = cells.seeds(ball, 2000, 7, cells.Density("surface", 0.05, 0.0))
    depth = 1 - np.linalg.norm(near, axis=1)
    # exp(-d / s) over shells of (1 - d)^2
    d = np.linspace(0, 1, 2001)
    law = np.cumsum(np.exp(-d / 0.05) * (1 - d) ** 2)
    assert stats.kstest(depth, lambda x: np.interp(x, d, law / law[-1])).pvalue > 1e-3
    assert (cells.seeds(cube, 200, 7, cells.Density()) == even[:200]).all()  # more of them move none


def test_bricks_lie_in_courses_and_leave_nothing_out():
    low, high = np.zeros(3), np.array([1.0, 0.5, 0.2])
    _, found = cells.bricks(low, high, np.array([0.25, 0.1, 0.2]), 0.0, 1, True)
    mesh = of(trimesh.creation.box(bounds=[low, high]))
    cuts = cutting.cut(mesh.points, mesh.triangles.astype(np.int64), found, 0)
    p = cuts.points[cuts.triangles]
    volumes = np.bincount(cuts.cell, np.einsum("tj,tj->t", p[:, 0], np.cross(p[:, 1], p[:, 2])) / 6)
    assert volumes.sum() == pytest.approx(0.1, rel=1e-9)
    assert len(found) == 3 * 4 + 2 * 5
    assert volumes.max() == pytest.approx(0.25 * 0.1 * 0.2, rel=0.01)


def test_a_surface_with_a_hole_is_refused():
    box = trimesh.creation.box((1, 1, 1))
    with pytest.raises(cutting.CutRefused):
        cutting.cut(np.asarray(box.vertices), np.asarray(box.faces)[:-1], [np.asarray(box.vertices)], 0)
