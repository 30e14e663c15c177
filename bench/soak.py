"""Every command of every menu on every demo, whatever is selected: python -m bench.soak

Nothing may end in an exception. At every tenth command the scene is saved, opened again and compared. The longest event
of each command on the window's thread is noted, without what OpenGL takes; those over 100 ms are listed, worst first.
Memory and widgets are noted after each demo; the last round over the same demo may not have more than a fifth more
widgets than the first, nor more than half as much memory again.
"""

import gc
import os
import sys
import tempfile
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PySide6.QtCore import QEvent
from PySide6.QtWidgets import QApplication, QDialog, QFileDialog

from estampa.errors import EstampaError
from estampa.scene.file import load_scene, write_scene

LEFT_OUT = ("quit", "new", "play", "live", "solve", "press_all", "movie", "night")


def mute(put) -> None:
    """Let file dialogs be dismissed. put(owner, name, value) sets an attribute."""
    for name in ("getOpenFileName", "getSaveFileName"):
        put(QFileDialog, name, lambda *a, **k: ("", ""))
    put(QFileDialog, "getExistingDirectory", lambda *a, **k: "")


def press_everything(window):
    """Trigger each command with something or other selected; yields its name and the seconds that it took itself, once
    the events that followed were handled."""
    s = window.session
    for k, (name, action) in enumerate(list(window.actions_by_name.items())):
        if name in LEFT_OUT:
            continue
        things = [t.id for t, _ in s.doc.everything()]
        s.selection.select(things[k % len(things)] if things else None)
        began = time.perf_counter()
        action.trigger()
        took = time.perf_counter() - began
        QApplication.processEvents()
        for dialog in window.findChildren(QDialog):
            if dialog.isVisible():
                dialog.reject()
        yield name, took


def reopened(session, folder: Path) -> str:
    """Save the scene as it is, open it again; the words for what is another one then."""
    path = folder / "soak.estampa"
    try:
        write_scene(session.scene, path, session.doc)
        again = load_scene(path)
    except EstampaError as err:
        return str(err)
    plain = lambda doc: doc.with_(name="", version=0)
    return "" if plain(again.doc) == plain(session.doc) else "it opened as another scene"


def standing(app) -> tuple[int, int]:
    """(bytes of memory, widgets) of the window, once what was put away is gone."""
    app.sendPostedEvents(None, QEvent.DeferredDelete)
    gc.collect()
    return int(Path("/proc/self/statm").read_text().split()[1]) * 4096, len(app.allWidgets())


def main() -> int:
    home = tempfile.mkdtemp()
    os.environ |= {"ESTAMPA_STORE": f"{home}/frames", "ESTAMPA_STATE": f"{home}/state"}
    from estampa import demo
    from estampa.app.session import Session
    from estampa.app.shell import theme
    from estampa.app.shell.window import Window

    from .events import LIMIT, Timed

    app = Timed()
    theme.use(app)
    mute(setattr)
    window = Window(Session())
    window.show()
    heard, slow, count = [], [], 0
    window.session.notice.connect(lambda level, text, detail: heard.append((level, text, detail)))

    def settle(seconds=20):
        end = time.monotonic() + seconds
        while window.session.busy and time.monotonic() < end:
            app.processEvents()
            time.sleep(0.002)

    stands, lost, names = {}, [], sys.argv[1:] or demo.names()
    for turn, name in enumerate([*names, names[0]]):
        window.session.replace(demo.build(name))
        settle()
        app.forget()
        for command, direct in press_everything(window):
            took, what = max((direct, "the command itself"), (app.longest, app.what))
            slow += [(took, name, command, what)] if took > LIMIT else []
            count += 1
            if count % 10 == 0 and (words := reopened(window.session, Path(home))):
                lost.append(f"after {command} on {name}: {words}")
            app.forget()
        window.actions_by_name["cancel"].trigger()
        settle()
        memory, widgets = stands[turn] = standing(app)
        told = f"{count} commands so far, {len(slow)} events over {1000 * LIMIT:.0f} ms"
        print(f"{name}: {told}, {memory / 1e6:.0f} MB, {widgets:,} widgets", flush=True)
    bad = [h for h in heard if "inside Estampa" in h[1]]
    print(f"{count} commands pressed, {len(bad)} exceptions, {len(slow)} events over {1000 * LIMIT:.0f} ms")
    for took, name, command, what in sorted(slow, reverse=True)[:25]:
        print(f"  {1000 * took:6.0f} ms  {command} on {name} ({what})")
    for _, text, detail in bad[:5]:
        print(f"  {text}: {detail.strip().splitlines()[-1]}")
    for words in lost[:10]:
        print(f"  not the same {words}")
    grown = stands[len(names)][0] / stands[0][0], stands[len(names)][1] / stands[0][1]
    print(f"{names[0]} again: {grown[0]:.2f} of the memory and {grown[1]:.2f} of the widgets of the first time")
    sys.stdout.flush()
    os._exit(1 if bad or lost or grown[0] > 1.5 or grown[1] > 1.2 else 0)


if __name__ == "__main__":
    main()
