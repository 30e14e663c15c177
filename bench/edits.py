"""Edits: what one costs as a scene grows. The reference is the same for a small scene, in the same run: a cost that is
linear in what there is to do stays the same for each thing."""

import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable

import numpy as np

from estampa import edits as do
from estampa.edits.joints import add_skeleton
from estampa.geometry.primitives import sheet
from estampa.scene.curves import Curve, Key
from estampa.scene.document import Document
from estampa.scene.scene import Scene

from .measure import Row, ms

SMALL, LARGE, VERY_LARGE = 200, 1_000, 10_000
GROWTH = 1.2  # of what is linear, at the most

SETTLE = """
import sys, tempfile, time
from PySide6.QtWidgets import QApplication
app = QApplication([])
from bench.edits import signs
from estampa import edits as do
from estampa.app.session import Session
from estampa.app.shell.window import Window
from estampa.store.frames import FrameStore
scene = signs(int(sys.argv[1]))
session = Session(FrameStore(tempfile.mkdtemp()))
window = Window(session)
window.resize(1280, 800)
window.show()
def settle():
    quiet, longest, began = 0, 0.0, time.perf_counter()
    while quiet < 20 and time.perf_counter() - began < 600:
        turn = time.perf_counter()
        app.processEvents()
        longest = max(longest, time.perf_counter() - turn)
        quiet = 0 if session.work.busy or session.pictures.looker.busy else quiet + 1
        time.sleep(0.002)
    return time.perf_counter() - began - 0.04, longest
session.replace(scene)
settle()
layer = scene.doc.things[len(scene.doc.things) // 2].stack[0]
found = []
for value in (1.2, 1.3, 1.4):
    do.set_value(scene, layer.id, "high", value)
    found.append(settle())
taken, longest = sorted(found)[1]
print(taken, longest, flush=True)
import os
os._exit(0)
"""


def signs(count: int) -> Scene:
    """Subjects with a bend whose angle is keyed."""
    scene, mesh = Scene(Document(start=1, end=120)), sheet(1, 1, 3, 3)
    for i in range(count):
        subject = do.add_mesh(scene, mesh, f"Sign {i}")
        layer = do.add_layer(scene, subject.id, "bend")
        for frame, angle in ((1, 0.0), (100, 1.0)):
            do.set_key(scene, layer.id, "angle", frame, angle)
    return scene


def spent(run: Callable[[], object]) -> float:
    """s of processor time."""
    began = time.process_time()
    run()
    return time.process_time() - began


def an_edit(scene: Scene, thing_id: str, channel: str) -> float:
    """s, of setting a channel once; the median of several."""
    return sorted(spent(lambda k=k: do.set_value(scene, thing_id, channel, 1.0 + k)) for k in range(15))[7]


def rows() -> list[Row]:
    signs(5)
    each = {n: spent(lambda n=n: signs(n)) / n for n in (SMALL, LARGE, VERY_LARGE)}
    found = []
    for count, most in ((LARGE, 3.0), (VERY_LARGE, 40.0)):
        ratio = each[count] / each[SMALL]
        good = count * each[count] < most
        what = f"{count:,} subjects with a keyed bend, built by edits"
        reference = f"{SMALL} of them: {ms(each[SMALL])} each"
        figure = f"{count * each[count]:.1f} s, {ms(each[count])} each"
        found.append(Row(what, figure, reference, ratio, f"under {most:.0f} s (growth ≤ {GROWTH} wanted)", good))
    many, few = signs(LARGE), signs(SMALL)
    one, two = (an_edit(s, s.doc.things[len(s.doc.things) // 2].stack[0].id, "high") for s in (many, few))
    words = f"setting a number among {LARGE:,} subjects"
    found.append(Row(words, ms(one), f"among {SMALL}: {ms(two)}", one / two, "≤ 5", one / two <= 5))
    found += [_keys(), _joints(), _settled()]
    return found


def _keys() -> Row:
    def scene(count):
        made = signs(1)
        layer = made.doc.things[0].stack[0]
        curve = Curve(keys=tuple(Key(frame=k, value=0.0) for k in range(count)))
        made.apply("Keys", made.doc.replace(layer.with_(values=layer.values | {"angle": curve})))
        return made

    cost = [an_edit(s, s.doc.things[0].stack[0].id, "high") for s in (scene(10_000), scene(100))]
    return Row(
        "setting another number beside 10,000 keys", ms(cost[0]), f"beside 100: {ms(cost[1])}", cost[0] / cost[1]
    )


def _joints() -> Row:
    def scene(count):
        made = Scene()
        skeleton = add_skeleton(made, [np.array([[0.0, 0.1 * k, 0.0] for k in range(count + 1)])])
        return made, skeleton

    cost = []
    for count in (1_000, 100):
        made, skeleton = scene(count)
        cost.append(an_edit(made, skeleton.joints[count // 2].id, "turn_x"))
    return Row("turning one of 1,000 joints", ms(cost[0]), f"one of 100: {ms(cost[1])}", cost[0] / cost[1])


def _settled() -> Row:
    def settled(count):
        with tempfile.TemporaryDirectory() as home:
            environment = os.environ | {"QT_QPA_PLATFORM": "offscreen", "ESTAMPA_STATE": home}
            run = [sys.executable, "-c", SETTLE, str(count)]
            done = subprocess.run(run, capture_output=True, text=True, env=environment, check=True)
        return tuple(map(float, done.stdout.split()[-2:]))

    (many, turn), (few, _) = settled(LARGE), settled(SMALL)
    figure = f"{many:.2f} s, longest turn of the window {ms(turn)}"
    wanted = "settled under 0.5 s, no turn over 100 ms"
    return Row(f"the window after an edit among {LARGE:,} subjects", figure, f"among {SMALL}: {few:.2f} s", many / few,
               wanted, many < 0.5 and turn < 0.1)  # fmt: skip


if __name__ == "__main__":
    for row in rows():
        print(row)
