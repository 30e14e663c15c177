"""The tutorials of the docs, as they stand there."""

import re
from pathlib import Path

import ipctk
import numpy as np
import trimesh

from estampa import edits as do
from estampa.inspect.remarks.scene import remarks

DOCS = Path(__file__).parents[2] / "docs"


def told(name) -> dict:
    """What the blocks of a page leave behind."""
    space = {}
    exec("\n".join(re.findall(r"```python\n(.*?)```", (DOCS / name).read_text(), re.S)), space)
    return space


def test_a_shell_is_pressed_flat_and_opens_in_halves():
    n = told("tutorial-dome.md")
    scene, shade = n["scene"], n["scene"].doc.find(n["shade"].id)
    assert np.ptp(n["pressed"][:, 1]) < 0.2 * n["RADIUS"], "pressed flat"
    mesh, pressed = scene.mesh(shade.mesh), n["pressed"]
    half = mesh.triangles[(mesh.triangles < len(pressed)).all(axis=1)]
    edges = ipctk.edges(half)
    judge = ipctk.CollisionMesh(pressed, edges, half)
    assert not ipctk.has_intersections(judge, pressed), "nothing goes through anything, says ipctk"
    long = lambda p: np.linalg.norm(p[edges[:, 1]] - p[edges[:, 0]], axis=1)
    assert (long(pressed) / long(mesh.points)).max() < 1.15, "no edge is longer by more than 15 %"
    ball = trimesh.Trimesh(mesh.points, mesh.triangles, process=False)
    assert ball.is_watertight and ball.is_winding_consistent and ball.volume > 0, "welded, and facing outwards"
    assert abs(ball.volume - 4 / 3 * np.pi * n["RADIUS"] ** 3) < 0.03 * ball.volume

    for layer in (n["thick"], n["fine"]):
        do.set_on(scene, layer.id, False)
    tall = []
    for frame in (1, 25, 32, 42, 48):
        y = scene.evaluate(frame)["Shade"][:, 1]
        tall.append((y.max(), -y.min()))
    tall = np.array(tall) / n["RADIUS"]
    assert tall[0, 0] < 0.2 and tall[0, 1] < 0.2
    assert tall[2, 0] > 0.95 and tall[2, 1] < 0.2, "the mirrored half is still flat when the first one is up"
    assert (tall[-1] > 0.95).all()
    for layer in (n["thick"], n["fine"]):
        do.set_on(scene, layer.id, True)
    assert not any(r.thing == n["fine"].id for r in remarks(scene))
    do.move_layer(scene, n["fine"].id, len(shade.stack) - 2)
    assert any("sharp" in r.causes for r in remarks(scene)), "Refine above Thicken"
