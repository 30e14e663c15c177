"""Kills, and a disk that refuses, in everything that writes: python -m bench.kills [TIMES]

Each job runs in a process of its own that is killed at a chance moment, or may write only so many bytes to a file.
After each the earlier files must be whole; after the next start nothing half written may be left. Exits 1 otherwise.
"""

import os
import random
import resource
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

JOBS = ("solve", "save", "adopt", "autosave", "keep", "bake", "movie")
BUSY = 0.5  # s of work within which the kill falls


def scene_at(folder: Path):
    from estampa import edits as do
    from estampa.geometry.primitives import sheet
    from estampa.scene.document import Document
    from estampa.scene.scene import Scene

    scene = Scene(Document(name="flag", start=1, end=24))
    flag = do.add_mesh(scene, sheet(1.2, 0.8, 30, 20), "Flag")
    pins = do.add_map(scene, flag.id, (scene.arrays.get(flag.mesh.points)[:, 0] == 0).astype("f4"), "Hoist")
    do.add_layer(scene, flag.id, "cloth", values={"pins": pins.id, "substeps": 6, "excess": 1.0})
    for kind in ("gravity", "vertex_texture", "vertex_cache", "shot", "shot_glb"):
        do.add_thing(scene, kind)
    scene.path = folder / "flag.estampa"
    return scene


def job(word: str, folder: Path) -> None:
    """Does one thing again and again until it is killed, or once when it may write only so much."""
    import estampa
    from estampa import edits as do
    from estampa.edits import assets
    from estampa.evaluate.starts import adopt
    from estampa.scene.recovery import Autosave, sweep
    from estampa.store.frames import FrameStore

    scene, store = scene_at(folder), FrameStore.default()
    sweep()
    keeper, once = Autosave(), "ESTAMPA_ONCE" in os.environ
    print("ready", flush=True)
    if once:
        resource.setrlimit(resource.RLIMIT_FSIZE, (int(os.environ["ESTAMPA_ONCE"]),) * 2)
    k = 0
    while True:
        k += 1
        do.set_range(scene, end=24 + k)
        if word == "solve":
            do.set_value(scene, next(t for t in scene.doc.things if t.kind == "gravity").id, "pull", 9.0 + 0.01 * k)
            scene.evaluator(store).solve_through(12)
        elif word == "save":
            estampa.save_scene(scene, folder / "flag.estampa", over=True)
        elif word == "adopt":
            cloth = scene.doc.subjects[0].stack[0].id
            do.set_start(scene, cloth, adopt(scene.evaluator(store), cloth, 1 + k % 12))
            estampa.save_scene(scene, folder / "flag.estampa", over=True)
        elif word == "keep":
            assets.keep(scene, scene.doc.subjects[0].id, "Flag", folder / "assets")
        elif word == "autosave":
            keeper.write(scene)
        elif word == "bake":
            do.set_range(scene, end=6)
            estampa.bake(scene, folder / "prints")
        else:
            from estampa import api

            api.film(scene, folder / "shot.mp4", (64, 48), range(1, 4))
        if once:
            return


def whole(folder: Path) -> str:
    """Nothing when all files under a folder are whole; else what is not."""
    import imageio_ffmpeg

    from estampa import open_scene
    from estampa.errors import EstampaError
    from estampa.formats.vertex_texture import VertexTextureFile
    from estampa.rehearsal.stage import RehearsalStage

    readers = {
        ".estampa": open_scene, ".autosave": open_scene, ".json": VertexTextureFile,
        ".usdc": lambda p: RehearsalStage.of([p]), ".glb": lambda p: RehearsalStage.of([p]),
        ".mp4": lambda p: imageio_ffmpeg.count_frames_and_secs(str(p))[0] >= 3 or 1 / 0,
    }  # fmt: skip
    for path in folder.rglob("*"):
        notes = path.name == "recent.json" or "runs" in path.parts  # ours, which are read anew where they are damaged
        if path.suffix in readers and not path.name.startswith(".estampa-part-") and not notes:
            try:
                readers[path.suffix](path)
            except (EstampaError, OSError, ZeroDivisionError, RuntimeError) as err:
                return f"{path.name}: {err}"
    return ""


def leftovers(folder: Path) -> list[str]:
    return [str(p.relative_to(folder)) for p in folder.rglob(".*") if p.is_file()]


def next_start(folder: Path) -> None:
    """What a start, an opening and a print sweep."""
    from estampa import disk
    from estampa.scene.recovery import sweep
    from estampa.store.frames import FrameStore

    sweep()
    FrameStore(folder / "frames").sweep()
    for place in (folder, folder / "prints", folder / "assets"):
        disk.sweep(place)


def main(times: int = 60) -> int:
    chance, bad = random.Random(1), 0
    for word in JOBS:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            os.environ |= {"ESTAMPA_STORE": str(folder / "frames"), "ESTAMPA_STATE": str(folder / "state")}
            command = [sys.executable, "-m", "bench.kills", "--job", word, name]
            torn, refused = 0, 0
            for k in range(times):
                limited = k % 2
                more = {"ESTAMPA_ONCE": str(chance.choice((0, 40, 3000, 20_000, 60_000)))} if limited else {}
                process = subprocess.Popen(
                    command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, env=os.environ | more
                )
                process.stdout.readline()
                if limited:
                    said = process.communicate(timeout=120)[1]
                    refused += process.returncode != 0
                    if process.returncode not in (0, 1) or (process.returncode and "EstampaError" not in said):
                        torn += "OSError" not in said or word != "autosave"
                else:
                    time.sleep(chance.uniform(0, BUSY))
                    process.send_signal(signal.SIGKILL)
                    process.wait()
                trouble = whole(folder)
                if trouble:
                    torn += 1
                    print(f"  {word}: {trouble}")
            next_start(folder)
            left = leftovers(folder)
            bad += torn + len(left)
            print(
                f"{word}: {times - times // 2} kills and {times // 2} refusing disks ({refused} refused), {torn} torn, "
                f"{len(left)} left behind {left[:2] or ''}",
                flush=True,
            )
    return 1 if bad else 0


if __name__ == "__main__":
    signal.signal(signal.SIGXFSZ, signal.SIG_IGN)  # a write beyond the limit is then an error, as on a full disk
    if sys.argv[1:2] == ["--job"]:
        job(sys.argv[2], Path(sys.argv[3]))
    else:
        sys.exit(main(*map(int, sys.argv[1:2])))
