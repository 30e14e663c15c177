"""Meshes and weight maps, against trimesh and by counting."""

import numpy as np
import pytest
import trimesh

from estampa.geometry import maps
from estampa.geometry.mesh import Mesh
from estampa.geometry.primitives import joined, sheet


def test_topology_and_normals_agree_with_trimesh():
    ball = trimesh.creation.icosphere(3)
    mesh = Mesh.from_triangles(ball.vertices, ball.faces)
    assert len(mesh.edges) == len(ball.edges_unique)
    assert mesh.open_edges == mesh.crowded_edges == mesh.flat_faces == 0
    # on a sphere the true normal is the direction from the centre
    assert (mesh.normals() * ball.vertices).sum(axis=1).min() > 0.999
    # V - E + F = 2 for a closed surface of genus 0 (Euler)
    assert mesh.count - len(mesh.edges) + len(mesh.face_counts) == 2


def test_quads_stay_quads_and_islands_are_counted():
    mesh = joined([sheet(1, 1, 4, 3), sheet(1, 1, 2, 2)])
    assert mesh.island_count == 2 and len(mesh.face_counts) == 7 and len(mesh.triangles) == 14
    assert mesh.open_edges == 10 + 4
    assert len(mesh.edges) == 17 + 4  # a fan's diagonals are not edges
    crowded = Mesh([[0, 0, 0], [1, 0, 0], [0, 1, 0], [0, -1, 0], [0, 0, 1]], [3, 3, 3], [0, 1, 2, 1, 0, 3, 0, 1, 4])
    assert crowded.crowded_edges == 1


def test_welding_an_stl_like_mesh_gives_the_solid_back():
    box = trimesh.creation.box()
    loose = Mesh.from_triangles(box.vertices[box.faces].reshape(-1, 3), np.arange(36).reshape(-1, 3))
    assert loose.island_count == 12
    solid = loose.welded()
    assert (solid.count, solid.island_count, solid.open_edges) == (8, 1, 0)
    assert np.array_equal(solid.points[solid.triangles], loose.points[loose.triangles])


def test_maps_are_set_added_taken_smoothed_and_inverted():
    mesh = sheet(1, 1, 11, 11)
    chosen = mesh.points[:, 0] < 0.45
    weights = maps.changed(np.zeros(mesh.count, np.float32), chosen, "set", 0.7)
    weights = maps.changed(weights, chosen, "add", 0.6)
    assert weights.max() == 1 and weights[~chosen].max() == 0
    weights = maps.changed(weights, chosen, "take", 0.25)
    assert np.allclose(weights[chosen], 0.75)
    smooth = maps.smoothed(mesh, weights, rounds=5)
    assert np.ptp(smooth[mesh.points[:, 0] == 0.5]) < 0.2 and 0 < smooth[5 * 11 + 5] < 0.75
    assert np.array_equal(
        maps.smoothed(mesh, np.full(mesh.count, 0.3, np.float32)), np.full(mesh.count, 0.3, np.float32)
    )
    assert np.allclose(maps.inverted(maps.inverted(weights)), weights)


def test_a_gradient_runs_straight_from_0_to_1():
    points = sheet(2, 1, 21, 5).points
    weights = maps.gradient(points, [0.5, 0, 0], [1.5, 0, 0])
    assert np.allclose(weights, np.clip(points[:, 0] - 0.5, 0, 1), atol=1e-6)
    assert maps.gradient(points, [1, 0, 0], [1, 0, 0]).min() == 1  # of no length: no division by zero


def test_uncovered_vertices_and_whole_islands():
    mesh = joined([sheet(1, 1, 3, 3), sheet(1, 1, 2, 2), sheet(1, 1, 2, 2)])
    one = np.zeros(mesh.count, np.float32)
    one[:9] = 0.2
    assert maps.uncovered(mesh.count, [one]).sum() == 8
    seed = np.zeros(mesh.count, bool)
    seed[10] = True
    assert np.flatnonzero(maps.islands_of(mesh, seed)).tolist() == [9, 10, 11, 12]


@pytest.mark.parametrize("counts", [[3], [3, 4], [5, 3, 3]])
def test_fans_keep_the_area_of_flat_polygons(counts):
    indices, points, first = [], [], 0
    for k in counts:
        turn = np.linspace(0, 2 * np.pi, k, endpoint=False)
        points.append(np.stack([np.cos(turn), turn * 0, np.sin(turn)], axis=1))
        indices += range(first, first + k)
        first += k
    mesh = Mesh(np.concatenate(points), counts, indices)
    p = mesh.points[mesh.triangles]
    area = 0.5 * np.linalg.norm(np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]), axis=1).sum()
    assert np.isclose(area, sum(0.5 * k * np.sin(2 * np.pi / k) for k in counts))  # area of a regular polygon
