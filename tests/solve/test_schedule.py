"""The order of constraints: every one once, and no two threads on one vertex."""

import numpy as np
import pytest
import trimesh

from estampa.geometry.mesh import Mesh
from estampa.geometry.primitives import joined, sheet
from estampa.solve.cloth.fabric import Parts
from estampa.solve.cloth.schedule import block_vertices, schedule, vertex_order


def meshes():
    ball = trimesh.creation.icosphere(4)
    rng = np.random.default_rng(2)
    shuffled = sheet(1, 1, 70, 70)
    turn = rng.permutation(shuffled.count)
    back = np.argsort(turn)
    return {
        "sheet": sheet(1, 1, 80, 60),
        "long strip": sheet(30, 0.2, 2000, 3),
        "closed ball": Mesh.from_triangles(ball.vertices, ball.faces),
        "two islands": joined([sheet(1, 1, 40, 40), sheet(1, 1, 40, 40)]),
        "numbered at random": Mesh(shuffled.points[turn], shuffled.face_counts, back[shuffled.face_indices]),
        "one triangle": Mesh.from_triangles([[0, 0, 0], [1, 0, 0], [0, 1, 0]], [[0, 1, 2]]),
    }


@pytest.mark.parametrize("name", meshes())
def test_blocks_of_a_phase_share_no_vertex_and_nothing_is_left_out(name):
    mesh = meshes()[name]
    parts = Parts.of(mesh)
    assert sorted(parts.order) == list(range(mesh.count))
    blocks = block_vertices(mesh.count)
    for at, plan in (
        (parts.faces.at, parts.faces.order),
        (parts.hinge_at, parts.hinge_order),
        (parts.link_at, parts.link_order),
    ):
        spans = plan.spans
        covered = np.concatenate([np.arange(a, b) for a, b in spans])
        assert sorted(covered) == list(range(len(at)))
        for first, last in zip(plan.phases, plan.phases[1:], strict=False):
            seen = np.full(mesh.count, -1)
            for k in range(first, last):
                vertices = np.unique(at[spans[k, 0] : spans[k, 1]])
                assert (seen[vertices] == -1).all(), "two blocks of one phase share a vertex"
                seen[vertices] = k
                low, high = blocks[k]
                assert ((vertices >= low) & (vertices < high)).all(), "a block touches a vertex that is not its own"


def test_each_vertex_is_opened_once_and_closed_once():
    for count in (1, 2, 599, 600, 1201, 9_999, 160_000):
        blocks = block_vertices(count)
        _, plan = schedule(np.zeros((0, 2), np.int64), count)
        for first, last in ((plan.phases[0], plan.phases[1]), (plan.phases[1], plan.phases[2])):
            vertices = np.concatenate([np.arange(a, b) for a, b in blocks[first:last]])
            assert np.array_equal(np.sort(vertices), np.arange(count))


def test_neighbours_end_up_near_in_the_order():
    mesh = meshes()["numbered at random"]
    order = vertex_order(mesh.count, mesh.edges)
    place = np.argsort(order)
    reach = lambda p: np.abs(p[mesh.edges[:, 0]] - p[mesh.edges[:, 1]]).mean()
    assert reach(place) < 0.1 * reach(np.arange(mesh.count))


def test_long_range_constraints_come_last_and_alone():
    count = 6000
    near = np.stack([np.arange(count - 1), np.arange(1, count)], axis=1)
    order, plan = schedule(np.concatenate([near, [[0, count - 1]]]), count)
    last = plan.spans[-1]
    assert last[1] - last[0] == 1 and order[last[0]] == count - 1


def test_warp_runs_along_u_and_strain_is_zero_at_rest():
    """A sheet whose texture is turned by 30 degrees: stretching it along U strains the warp only."""
    mesh = sheet(1, 1, 7, 7)
    turn = np.radians(30)
    u = np.array([np.cos(turn), np.sin(turn)])
    uv = mesh.points[:, [0, 2]] @ np.array([[u[0], -u[1]], [u[1], u[0]]])
    turned = Mesh(mesh.points, mesh.face_counts, mesh.face_indices, uv)
    parts = Parts.of(turned)

    def strains(points):
        x = points[parts.order]
        at, s = parts.faces.at.astype(int), parts.triangle_shape
        a, b = x[at[:, 1]] - x[at[:, 0]], x[at[:, 2]] - x[at[:, 0]]
        warp, weft = a * s[:, :1] + b * s[:, 2:3], a * s[:, 1:2] + b * s[:, 3:]
        return np.linalg.norm(warp, axis=1) - 1, np.linalg.norm(weft, axis=1) - 1, (warp * weft).sum(axis=1)

    assert np.abs(strains(mesh.points)).max() < 1e-6
    along = np.array([u[0], 0, u[1]])
    stretched = mesh.points + 0.1 * (mesh.points @ along)[:, None] * along
    warp, weft, shear = strains(stretched)
    assert np.allclose(warp, 0.1, atol=1e-5) and np.abs(weft).max() < 1e-5 and np.abs(shear).max() < 1e-5
