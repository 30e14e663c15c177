"""Every command of every menu on every demo, whatever is selected: python -m bench.soak

Nothing may end in an exception. The longest event of each command on the window's thread is noted, without what OpenGL
takes; those over 100 ms are listed, worst first.
"""

import os
import sys
import tempfile
import time

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PySide6.QtWidgets import QApplication, QDialog, QFileDialog

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

    for name in sys.argv[1:] or demo.names():
        window.session.replace(demo.build(name))
        settle()
        app.forget()
        for command, direct in press_everything(window):
            took, what = max((direct, "the command itself"), (app.longest, app.what))
            slow += [(took, name, command, what)] if took > LIMIT else []
            count += 1
            app.forget()
        window.actions_by_name["cancel"].trigger()
        settle()
        print(f"{name}: {count} commands so far, {len(slow)} events over {1000 * LIMIT:.0f} ms", flush=True)
    bad = [h for h in heard if "inside Estampa" in h[1]]
    print(f"{count} commands pressed, {len(bad)} exceptions, {len(slow)} events over {1000 * LIMIT:.0f} ms")
    for took, name, command, what in sorted(slow, reverse=True)[:25]:
        print(f"  {1000 * took:6.0f} ms  {command} on {name} ({what})")
    for _, text, detail in bad[:5]:
        print(f"  {text}: {detail.strip().splitlines()[-1]}")
    sys.stdout.flush()
    os._exit(1 if bad else 0)


if __name__ == "__main__":
    main()
