"""Players of printed files that share no code with the project: three.js under Node, OpenUSD's own skinning."""

import json
import shutil
import subprocess
from pathlib import Path
from typing import NamedTuple

import numpy as np
import pytest
from scipy.spatial import cKDTree

HERE = Path(__file__).parent


class Played(NamedTuple):
    """What three.js shows of a file: points (t, n, 3) m at each time; the length s of its clip; of each mesh its name,
    number of vertices, material and names of morph targets."""

    points: np.ndarray
    seconds: float
    names: list[str]
    counts: list[int]
    materials: list[dict]
    morphs: list[list[str]]


def played(path: Path, times) -> Played:
    """A GLB as three.js plays its first clip, round and round, at times (t,) s."""
    if not shutil.which("node") or not (HERE.parents[1] / "node_modules" / "three").exists():
        pytest.fail("three.js is not installed; run the README's test command, which installs it")
    out = Path(path).with_suffix(".played")
    words = ",".join(f"{t:.9g}" for t in times)
    run = subprocess.run(["node", HERE / "play.mjs", out, words, path], capture_output=True, text=True, cwd=HERE)
    assert run.returncode == 0, run.stderr[-2000:]
    told = json.loads(run.stdout.splitlines()[-1])
    points = np.fromfile(out).reshape(len(times), -1, 3)
    out.unlink()
    return Played(points, told["seconds"], told["names"], told["counts"], told["materials"], told["morphs"])


def apart(found: np.ndarray, wanted: np.ndarray) -> float:
    """m: how far each of two sets of points (n, 3), (m, 3) is from the other at the most. Vertices may be parted."""
    assert np.isfinite(found).all()
    return float(max(cKDTree(found).query(wanted)[0].max(), cKDTree(wanted).query(found)[0].max()))
