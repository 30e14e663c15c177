"""Prints of many instances against writing the same numbers plainly; motion over a large GLB against copying it."""

import shutil
import tempfile
from pathlib import Path

import numpy as np
import trimesh

from estampa import edits as do
from estampa.formats import columns
from estampa.formats.gltf_over import SourceGlb
from estampa.formats.instance_table import ImageLayout
from estampa.geometry.primitives import box
from estampa.press.prints import Job
from estampa.press.run import frames_of, printed, values_of
from estampa.press.swarm_looks import Numbers, row_of
from estampa.scene.document import Document
from estampa.scene.scene import Scene

from .measure import Row, in_turn, ms, seconds

MANY, FRAMES = 100_000, 10


def school() -> Job:
    scene = Scene(Document(start=1, end=FRAMES))
    member = do.add_mesh(scene, box([-0.02, -0.01, -0.04], [0.02, 0.01, 0.04]), "Member")
    swarm = do.add_thing(scene, "swarm", "School", {"by": "formula", "period": 2.0})
    do.add_layer(scene, swarm.id, "sow", values={"count": MANY, "scatter": 5.0})
    do.add_layer(scene, swarm.id, "grain_sway")
    do.add_layer(scene, swarm.id, "grain_show", values={"subject": member.id, "cycle": 3, "rate_varies": 0.3})
    item = do.add_thing(scene, "swarm_table", "Out")
    evaluator, doc = scene.evaluator(), scene.doc
    return Job(item, printed(doc, item), None, frames_of(doc, item), 24.0, evaluator, values_of(doc, item))


def rows() -> list[Row]:
    found, folder = [], Path(tempfile.mkdtemp())
    job = school()
    every = [row_of(job, frame, Numbers()) for frame in job.frames]
    raw = b"".join(np.ascontiguousarray(v).tobytes() for row in every for v in row.values())
    plain = seconds(lambda: [folder.joinpath(f"plain{k}").write_bytes(raw) for k in range(3)]) / 3
    for form in ("parquet", "csv"):
        path = folder / f"table.{form}"
        taken = seconds(lambda path=path, form=form: columns.write(path, every, form))
        what = f"{form} of {MANY:,} grains x {FRAMES} frames: the file alone"
        goal = ("≥ 0.5", taken <= 2 * plain) if form == "parquet" else ()
        found.append(Row(what, ms(taken), f"the same bytes plainly {ms(plain)}", plain / taken, *goal))
    layout = ImageLayout.of(MANY, FRAMES)
    packing = seconds(lambda: layout.pack(every))
    found.append(Row("pixels of an image of as many", ms(packing), f"plainly {ms(plain)}", plain / packing))
    source = folder / "large.glb"
    ball = trimesh.creation.icosphere(7, 1.0)
    scene = trimesh.Scene()
    for k in range(44):
        moved = ball.copy()
        moved.apply_translation([2.5 * k, 0, 0])
        scene.add_geometry(moved, node_name=f"Ball{k}", geom_name=f"Ball{k}")
    source.write_bytes(scene.export(file_type="glb"))
    target = folder / "back.glb"

    copy, done = in_turn(
        lambda: shutil.copyfile(source, target), lambda: SourceGlb(source).save(target, "Motion"), times=5
    )
    what = f"a GLB of {source.stat().st_size / 1e6:.0f} MB read, checked and written with nothing new"
    found.append(Row(what, ms(done), f"a copy {ms(copy)}", done / copy, "≤ 2", done <= 2 * copy))
    shutil.rmtree(folder)
    return found
