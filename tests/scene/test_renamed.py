"""What was written before columns and channels had the names that physics gives them is read."""

import json
import zipfile

import numpy as np

from estampa import edits as do
from estampa.evaluate.starts import adopt
from estampa.geometry.primitives import sheet
from estampa.kinds import renamed
from estampa.scene.document import Document
from estampa.scene.file import load_scene, save_scene
from estampa.scene.scene import Scene
from estampa.store import codec

OLD = {new: old for old, new in renamed.COLUMNS.items()}


def test_a_scene_of_version_4_has_its_start_state_and_its_channels(tmp_path, store):
    scene = Scene(Document(start=1, end=4))
    mat = do.add_mesh(scene, sheet(1, 1, 4, 4), "Mat")
    cloth = do.add_layer(scene, mat.id, "cloth")
    do.add_thing(scene, "gravity")
    do.set_start(scene, cloth.id, adopt(scene.evaluator(store), cloth.id, 3))
    swarm = do.add_thing(scene, "swarm", values={"min_turn_speed": 0.25})
    reader = do.add_thing(scene, "grip", "Reader")
    do.link(scene, reader.id, "x", swarm.id, "min_turn_speed")
    path = tmp_path / "now.estampa"
    save_scene(scene, path)
    older = tmp_path / "older.estampa"
    with zipfile.ZipFile(path) as now, zipfile.ZipFile(older, "w") as then:
        for name in now.namelist():
            data = now.read(name)
            if name.endswith(".json"):
                text = data.decode()
                told = json.loads(text)
                assert told["version"] == 5
                for new, old in (("position", "place"), ("velocity", "speed"), ("min_turn_speed", "least")):
                    text = text.replace(f'"{new}"', f'"{old}"')
                data = json.dumps(json.loads(text) | {"version": 4}).encode()
            then.writestr(name, data)
    back = load_scene(older)
    found = back.doc.find(mat.id).stack[0].adopted.tables["points"].columns
    assert (
        set(found) >= {"position", "velocity"}
        and found == scene.doc.find(mat.id).stack[0].adopted.tables["points"].columns
    )
    assert back.doc.find(swarm.id).values == {"min_turn_speed": 0.25}
    assert back.doc.find(reader.id).values["x"].reads.channel == "min_turn_speed"
    frames = [s.evaluator(store).subject(s.doc.find(mat.id), 1).points for s in (scene, back)]
    assert np.array_equal(*frames)


def test_a_frame_of_before_is_read_with_the_names_of_now(tmp_path):
    from estampa.solve.frame import Frame, Table

    values = {"position": np.arange(6, dtype=np.float32).reshape(2, 3), "temperature": np.ones(2, np.float32)}
    older = Frame({"grains": Table({OLD[n]: a for n, a in values.items()})})
    head, *rest = codec.encode(b"k" * 16, older)
    path = tmp_path / "frame"
    path.write_bytes(b"".join(map(bytes, [head.replace(codec.MAGIC, codec.BEFORE), *rest])))
    with path.open("rb") as file:
        assert codec.is_whole(file, b"k" * 16)
    for wanted in (None, ("position",)):
        with path.open("rb") as file:
            found = codec.decode(file, b"k" * 16, wanted)["grains"].columns
        assert set(found) == (set(values) if wanted is None else {"position"})
        assert all(np.array_equal(a, values[n]) for n, a in found.items())
