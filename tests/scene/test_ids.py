"""Ids: the same script makes the same scene and the same motion each time it runs; a scene from a file goes on."""

import subprocess
import sys

from estampa import edits as do
from estampa.geometry.primitives import box
from estampa.hashing import number_of
from estampa.scene.document import Document
from estampa.scene.file import load_scene, save_scene
from estampa.scene.scene import Scene
from estampa.solve.ensemble import member_number

SCRIPT = """
import sys
from estampa import edits as do
from estampa.hashing import digest
from estampa.geometry.primitives import box
from estampa.scene.document import Document
from estampa.scene.scene import Scene
from estampa.store.frames import FrameStore
scene = Scene(Document(name="stack", start=1, end=20))
for k in range(4):
    crate = do.add_mesh(scene, box([0.03 * k, 0.3 * k, 0], [0.2 + 0.03 * k, 0.2 + 0.3 * k, 0.2]), f"Crate {k}")
    do.add_layer(scene, crate.id, "body", values={"spin_x": 0.3 * k})
do.add_thing(scene, "gravity")
do.add_thing(scene, "ground")
evaluator = scene.evaluator(FrameStore(sys.argv[1]))
evaluator.solve_through(20)
run = evaluator.runs.every()[0]
frame = evaluator.store.frame(evaluator.runs.key(run, 20))
print(digest(frame["bodies"]["position"], frame["bodies"]["turn"]).hex(), [t.id for t in scene.doc.things])
"""


def test_the_same_script_makes_the_same_motion_each_time(tmp_path):
    run = lambda k: subprocess.run(
        [sys.executable, "-c", SCRIPT, str(tmp_path / str(k))], capture_output=True, text=True, check=True
    )
    first, second = run(1).stdout, run(2).stdout
    assert first == second and len(first) > 40


def test_members_are_in_the_order_in_which_they_were_added_and_a_file_goes_on(tmp_path):
    scene = Scene(Document(name="x"))
    layers = []
    for k in range(12):
        subject = do.add_mesh(scene, box([k, 0, 0], [k + 0.5, 1, 1]), "Crate")
        layers.append(do.add_layer(scene, subject.id, "body").id)
    assert sorted(layers, key=member_number) == layers
    save_scene(scene, tmp_path / "x.estampa")
    again = load_scene(tmp_path / "x.estampa")
    fresh = do.add_thing(again, "grip")
    assert all(number_of(fresh.id) > number_of(t.id) for t in scene.doc.things)
    assert len({t.id for t in again.doc.things}) == len(again.doc.things)
