"""Watches the files that a scene names: those that motion is read from, and those that its meshes came from."""

from PySide6.QtCore import QObject, QTimer, Signal

from ...formats.usd_points import stamp

EVERY = 1500  # ms
MOST = 200  # files


class FileWatch(QObject):
    read_changed = Signal(list)  # files that channels name, that came, went or changed
    source_changed = Signal(str)  # a file that meshes came from has another content

    def __init__(self, session):
        super().__init__()
        self.session, self._known = session, {}
        self._of, self._files = None, {}  # a document, and the files that it names
        self._timer = QTimer(self, interval=EVERY)
        self._timer.timeout.connect(self.look)
        session.replaced.connect(self.forget)
        self._timer.start()

    def forget(self) -> None:
        """Of another scene: what is there now counts."""
        self._known = {}
        self.look()

    def files(self) -> dict[str, str]:
        """File -> "read" or "source"; looked for once in a document."""
        doc = self.session.doc
        if doc is self._of:
            return self._files
        found = {}
        for subject in doc.subjects:
            if subject.mesh.file:
                found[subject.mesh.file] = "source"
        for thing, _ in doc.everything():
            if thing.declared is not None:
                for name, channel in thing.declared.channels.items():
                    if channel.file and not channel.drawn and thing.constant(name):
                        found[thing.constant(name)] = "read"
        self._of, self._files = doc, dict(list(found.items())[:MOST])
        return self._files

    def look(self) -> None:
        """Look at them once."""
        changed, known = [], {}
        for path, what in self.files().items():
            known[path] = now = stamp(path)
            if path in self._known and self._known[path] != now:
                if what == "read":
                    changed.append(path)
                elif now is not None:
                    self.source_changed.emit(path)
        self._known = known
        if changed:
            self.read_changed.emit(changed)

    def end(self) -> None:
        self._timer.stop()
