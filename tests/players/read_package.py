"""Reads an instance table by its JSON alone, for players that are not ours: nothing of the project is imported.

`python read_package.py TABLE.json` prints what it finds, and raises where the worked example of the file does not hold.
"""

import csv
import json
import sys
from pathlib import Path

import numpy as np


def read_image(path):
    import OpenEXR

    with OpenEXR.File(str(path)) as file:
        return file.channels()["RGBA"].pixels.astype(float)


def read_rows(about, folder):
    """The rows of each frame: a list of (columns by name)."""
    if "image" in about:
        image = read_image(folder / about["image"])
        wide, blocks, kinds = about["width"], about["blocks"], about["pixels"]
        ids = np.arange(about["grains"])
        for f in range(len(about["frames"])):
            rows = {"id": ids}
            for n, names in enumerate(kinds):
                pixels = image[(f * blocks + ids // wide) * len(kinds) + n, ids % wide]
                rows |= {name: pixels[:, c] for c, name in enumerate(names) if name}
            lives = rows["size"] > 0
            yield {n: v[lives] for n, v in rows.items()}
        return
    path = folder / about["table"]
    if path.suffix == ".parquet":
        import pyarrow.parquet

        found = pyarrow.parquet.read_table(path)
        table = {n: found[n].to_numpy() for n in found.column_names}
    else:
        with open(path, newline="") as file:
            names, *lines = csv.reader(file)
        table = {n: np.array([float(line[k]) for line in lines]) for k, n in enumerate(names)}
    assert list(table) == about["columns"]
    for frame in about["frames"]:
        own = table["frame"] == frame
        yield {n: v[own] for n, v in table.items()}


def turn(q, v):
    """(k, 3) vectors turned by unit quaternions (k, 4) x, y, z, w."""
    axis, w = q[:, :3], q[:, 3:]
    return v + 2 * np.cross(axis, np.cross(axis, v) + w * v)


def read_cycle(about, folder, number):
    """(frames, n, 3) m of the vertex animation texture that a mesh names, by its JSON; None where it names none."""
    name = about["meshes"][number]["texture"]
    if name is None or not (folder / name).is_file():
        return None
    told = json.loads((folder / name).read_text())
    rest = points_of(folder / told["mesh"])
    import OpenEXR

    with OpenEXR.File(str(folder / told["offset_texture"])) as file:
        pixels = file.channels()["RGB"].pixels.astype(float)
    v = np.arange(len(rest))
    row = lambda k: k * told["rows_per_frame"] + v // told["width"]
    return np.stack([rest + pixels[row(k), v % told["width"]] for k in range(told["frames"])])


def points_of(path):
    """(n, 3) of the first primitive of a GLB, by the standard (glTF 2.0, sections 4.4 and 3.6)."""
    data = Path(path).read_bytes()
    long = int.from_bytes(data[12:16], "little")
    meta, blob = json.loads(data[20 : 20 + long]), data[28 + long :]
    accessor = meta["accessors"][meta["meshes"][0]["primitives"][0]["attributes"]["POSITION"]]
    view = meta["bufferViews"][accessor["bufferView"]]
    start = view.get("byteOffset", 0) + accessor.get("byteOffset", 0)
    return np.frombuffer(blob, "<f4", 3 * accessor["count"], start).reshape(-1, 3).astype(float)


def placed(rows, points):
    """(k, n, 3) m where the vertices of each row go; points -- (k, n, 3), each mesh at its frame."""
    q = np.stack([rows[n] for n in ("qx", "qy", "qz", "qw")], axis=1)
    place = np.stack([rows[n] for n in "xyz"], axis=1)
    k, n = points.shape[:2]
    wide = (points * rows["size"][:, None, None]).reshape(-1, 3)
    return turn(np.repeat(q, n, axis=0), wide).reshape(k, n, 3) + place[:, None]


def check_example(about, frames):
    """The numbers that the file gives for one grain are those that its words lead to."""
    told = about["example"]
    rows = frames[about["frames"].index(told["frame"])]
    one = {n: np.array([v]) for n, v in told["columns"].items()}
    assert any(all(abs(rows[n][i] - v) < 1e-5 for n, v in told["columns"].items()) for i in range(len(rows["x"])))
    goes = placed(one, np.array([[told["of_the_cycle"]]]))[0, 0]
    assert np.abs(goes - told["goes_to"]).max() < 1e-5, goes


def main(path):
    about = json.loads(Path(path).read_text())
    frames = list(read_rows(about, Path(path).parent))
    check_example(about, frames)
    return about, frames


if __name__ == "__main__":
    found, each = main(sys.argv[1])
    print(found["of"], [len(rows["x"]) for rows in each])
