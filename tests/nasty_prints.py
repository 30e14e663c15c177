"""Printed files that are torn, and what may come of playing them and of bringing them in: words, or a sound picture.

A sample is part of the ordinary tests; `bench/damage.py` runs many.
"""

import json
import shutil
from pathlib import Path

import numpy as np

from estampa import edits as do
from estampa.edits import importing
from estampa.edits.names import Names
from estampa.errors import EstampaError
from estampa.formats.asset import read_asset
from estampa.geometry.primitives import sheet
from estampa.press.run import bake_scene
from estampa.rehearsal.stage import RehearsalStage
from estampa.scene.document import Document
from estampa.scene.ids import ids_of
from estampa.scene.scene import Scene
from estampa.solve.swarm.points_file import read_points

ODD = (None, 0, -1, 1e308, "../x", [], {}, 2**40, "é", -0.5)


def printed(folder: Path) -> Path:
    """A print of each kind that a small scene takes."""
    with ids_of("torn"):
        scene = Scene(Document(end=6))
        mat = do.add_mesh(scene, sheet(1, 1, 4, 4), "Mat")
        do.add_layer(scene, mat.id, "noise")
        swarm = do.add_thing(scene, "swarm", "Sparks").id
        do.add_layer(scene, swarm, "sow", values={"count": 6, "speed_y": 1.0})
        for kind in ("vertex_cache", "vertex_texture", "pose_strip", "shot", "shot_glb"):
            do.add_thing(scene, kind, kind, {"subject": mat.id} if kind not in ("shot", "shot_glb") else {})
        for kind in ("swarm_table", "swarm_usd", "swarm_glb"):
            do.add_thing(scene, kind, kind, {"swarm": swarm})
    bake_scene(scene, folder)
    return folder


def stage_files(folder: Path) -> list[Path]:
    return sorted(p for p in folder.iterdir() if p.suffix in (".glb", ".usdc", ".usda", ".json"))


def play(path: Path) -> list[str]:
    """Open a printed file and look at it at some moments."""
    stage = RehearsalStage.of([path])
    for now in (0.0, 0.1, 5.0):
        for shown in stage.shown(now):
            assert np.isfinite(shown.in_world()).all()
    return stage.words()


def bring_in(path: Path) -> None:
    """Import it, as the window does."""
    asset = read_asset(path)
    scene = Scene(Document(end=6))
    found = importing.prepare(asset, Names(scene.doc), 24.0, None, None, None, lambda *a: None, 1)
    importing.put(scene, found, path.name)
    for points in scene.evaluate(2).values():
        assert np.isfinite(points).all()


def torn(whole: Path, folder: Path, seed: int) -> str:
    """Damage one file of a print, play it and bring it in: words that name a file, or what is sound."""
    dice = np.random.default_rng(seed)
    shutil.copytree(whole, folder, dirs_exist_ok=True)
    files = sorted(p for p in folder.iterdir() if p.is_file())
    victim = files[dice.integers(len(files))]
    data = bytearray(victim.read_bytes())
    how = seed % 4
    if how == 0:
        data = data[: dice.integers(len(data))]
    elif how == 1:
        for _ in range(dice.integers(1, 12)):
            data[dice.integers(len(data))] = dice.integers(256)
    elif how == 2 and victim.suffix == ".json":
        told = json.loads(data)
        told[list(told)[dice.integers(len(told))]] = ODD[dice.integers(len(ODD))]
        data = json.dumps(told).encode()
    else:
        at, some = dice.integers(len(data)), dice.integers(1, 300)
        data[at : at + some] = bytes(some)
    victim.write_bytes(data)
    refused = False
    steps = [(p, play) for p in stage_files(folder)]
    steps += [(p, bring_in) for p in files if p.suffix in (".glb", ".usdc", ".usda")]
    steps += [(p, lambda p: read_points(str(p))) for p in files if p.suffix in (".usdc", ".usda", ".csv")]
    for path, step in steps:
        try:
            step(path)
        except EstampaError as err:
            refused = True
            assert err.cause.strip() and "Traceback" not in str(err)
    return "refused" if refused else "opened"
