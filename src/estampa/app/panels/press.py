"""The press: the list of prints, their sizes before they run and their read-back after."""

from pathlib import Path

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import (
    QFileDialog,
    QFrame,
    QHBoxLayout,
    QLabel,
    QMenu,
    QPushButton,
    QScrollArea,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from ... import edits as do
from ...formats.bounds import in_words
from ...kinds.registry import kind_of, kinds_in
from ...press import run as press
from ...units import format_bytes
from ..model.tasks import Task, trouble_in_words
from ..model.view import Beside
from ..session import Session
from ..shell import theme


class PressPanel(QWidget):
    def __init__(self, session: Session, actions: dict):
        super().__init__()
        self.session = session
        self.folder = Path.home() / "estampa-prints"
        self.results: dict[str, press.Result] = {}  # by the print's id
        layout = QVBoxLayout(self)
        layout.setContentsMargins(10, 8, 10, 8)
        head = QHBoxLayout()
        self.add = QPushButton(theme.icon("add"), "Add a print")
        menu = QMenu(self.add)
        for kind in kinds_in("print"):
            menu.addAction(theme.icon(kind.kind), kind.title, lambda k=kind: self.add_print(k.kind)).setToolTip(
                kind.summary()
            )
        self.add.setMenu(menu)
        head.addWidget(self.add)
        self.all = QPushButton(theme.icon("press", theme.ink.on_accent), "Run all")
        self.all.setProperty("strong", True)
        self.all.clicked.connect(actions["press_all"].trigger)
        head.addWidget(self.all)
        layout.addLayout(head)
        where = QHBoxLayout()
        self.where = QLabel()
        self.where.setProperty("soft", True)
        where.addWidget(self.where, 1)
        change = QToolButton(icon=theme.icon("open"), toolTip="Choose the folder that prints are written to")
        change.clicked.connect(self._choose_folder)
        where.addWidget(change)
        layout.addLayout(where)
        self._scroll = QScrollArea(widgetResizable=True)
        layout.addWidget(self._scroll, 1)
        self._soon = QTimer(singleShot=True, interval=0, timeout=self.refresh)  # once for all that an edit changes
        session.doc_changed.connect(lambda *_: self._soon.start())
        session.replaced.connect(self._other_scene)
        for signal in (session.selection.selected, session.work.jobs.changed):
            signal.connect(self._soon.start)
        self.refresh()

    def _other_scene(self):
        self.results.clear()
        self.refresh()

    def add_print(self, kind: str):
        s, channels = self.session, kind_of(kind).channels
        held = {"subject": s.selection.subject, "skeleton": s.selection.skeleton, "swarm": s.selection.swarm}
        values = {n: t.id for n, t in held.items() if n in channels and t is not None}
        item = do.add_thing(s.scene, kind, values=values)
        s.selection.select(item.id)

    def rehearse(self, item_id: str):
        """Play a print's files alone."""
        from ..shell.rehearsal import Rehearsal

        paths, item = self.results[item_id].paths, self.session.doc.find(item_id)
        main = next((p for p in paths if p.suffix == ".json"), next(p for p in paths if p.suffix in PLAYED))

        def run():
            self.rehearsal = Rehearsal(self.window(), [main], item)
            self.rehearsal.show()

        self.session.carry_out(run)

    def _choose_folder(self):
        chosen = QFileDialog.getExistingDirectory(self, "Folder for prints", str(self.folder.parent))
        if chosen:
            self.folder = Path(chosen)
            self.refresh()

    def showEvent(self, event):
        super().showEvent(event)
        self.refresh()

    def refresh(self):
        if not self.isVisible():
            return  # it is drawn again when it is shown
        home = str(Path.home())
        words = str(self.folder).replace(home, "~", 1) if str(self.folder).startswith(home) else str(self.folder)
        shown = self.where.fontMetrics().elidedText(words, Qt.ElideMiddle, 220)
        self.where.setText(f"Into {shown}")
        self.where.setToolTip(str(self.folder))
        body = QWidget()
        column = QVBoxLayout(body)
        column.setContentsMargins(0, 0, 4, 0)
        column.setSpacing(8)
        doc = self.session.doc
        if not doc.prints:
            empty = QLabel(
                "Nothing to deliver yet. Add a print: a vertex cache (OpenUSD) or a vertex animation texture "
                "(GLB, OpenEXR and JSON). Each says its size before it runs, and reads its files back after.",
                wordWrap=True,
            )
            empty.setProperty("soft", True)
            column.addWidget(empty)
        self.cards = {item.id: Card(self, item) for item in doc.prints}
        for card in self.cards.values():
            column.addWidget(card)
        column.addStretch(1)
        self._scroll.setWidget(body)
        self.all.setEnabled(bool(doc.prints) and not self.session.work.jobs.busy)

    def run(self, item_ids: list[str]):
        """Run prints one after another, beside the window."""
        s, doc, scene, folder = self.session, self.session.doc, self.session.scene, self.folder
        evaluator = scene.evaluator(s.store)
        for item_id in item_ids:
            item = doc.find(item_id)

            def done(result, i=item_id):
                self.results[i] = result
                s.notice.emit(
                    "done" if result.passed else "error",
                    f"{result.name}: {result.words()}",
                    "\n".join(map(str, result.paths)),
                )
                self.refresh()
                s.work.plan()
                s.pictures.look()

            s.work.jobs.add(
                Task(
                    f"Print {item.name}",
                    lambda progress, cancelled, i=item: press.run(scene, evaluator, i, folder, progress, cancelled),
                    done,
                )
            )

    def show_beside(self, item_id: str):
        """Put the printed file, played back, beside its subject; again to take it away."""
        s = self.session
        item = s.doc.find(item_id)
        if s.view.beside and s.view.beside.title == item.name:
            s.view.beside = None
        else:
            result = self.results[item_id]
            try:
                with in_words(result.target.name):
                    reader = item.declared().reader(result.target)
            except Exception as err:
                s.tell(trouble_in_words(err))
                return
            s.view.beside = Beside(item.name, press.printed(s.doc, item).id, reader)
        s.pictures.look()
        self.refresh()
        self.window().viewport.frame_beside()


PLAYED = (".json", ".glb", ".usdc")  # what a rehearsal opens


class Card(QFrame):
    """One print."""

    def __init__(self, panel: PressPanel, item):
        super().__init__()
        self.panel, self.item = panel, item
        s, ink = panel.session, theme.ink
        chosen = s.selection.selected_id == item.id
        self.setObjectName("card")
        self.setStyleSheet(
            f"#card {{ background: {ink.sheet}; border: 1px solid {ink.accent if chosen else ink.rule}; }}"
        )
        column = QVBoxLayout(self)
        column.setContentsMargins(10, 8, 10, 8)
        column.setSpacing(4)
        head = QHBoxLayout()
        picture = QLabel()
        picture.setPixmap(theme.icon(item.kind).pixmap(18, 18))
        head.addWidget(picture)
        name = QLabel(item.name)
        name.setFont(theme.type_face(10.5, bold=True))
        head.addWidget(name, 1)
        remove = QToolButton(icon=theme.icon("remove"), toolTip="Remove this print (can be undone)")
        remove.setProperty("flat", True)
        remove.clicked.connect(lambda: do.remove(s.scene, item.id))
        head.addWidget(remove)
        column.addLayout(head)
        if item.declared is None:
            column.addWidget(QLabel("Not understood by this version; kept as it is.", wordWrap=True))
            return
        estimate = press.estimate(s.scene, s.doc, item)
        subject, frames = press.printed(s.doc, item), press.frames_of(s.doc, item)
        span = f"frames {frames[0]}–{frames[-1]}" if frames else "no frames"
        whose = subject.name if subject else "nothing to print"
        self._line(column, f"{item.declared.title} · {whose} · {span}", soft=True)
        self._line(column, estimate.text)
        if item.declared.carries:
            self._line(column, f"Carries {', '.join(item.declared.carries)}.", soft=True)
        if estimate.trouble:
            self._line(column, estimate.trouble, colour=ink.accent)
        buttons = QHBoxLayout()
        run = QPushButton("Run")
        run.setEnabled(not estimate.trouble and not s.work.jobs.busy)
        run.clicked.connect(lambda: panel.run([item.id]))
        edit = QPushButton("Channels")
        edit.setToolTip("Show this print's channels in the sheet")
        edit.clicked.connect(lambda: (s.selection.select(item.id), panel.window().show_panel("sheet")))
        buttons.addWidget(run)
        buttons.addWidget(edit)
        result = panel.results.get(item.id)
        if result:
            self._line(
                column,
                f"{format_bytes(result.bytes)} written. {result.words()[0].upper()}{result.words()[1:]}",
                colour=ink.good if result.passed else ink.accent,
            )
            if press.signature(s.work.evaluator("window"), item) != result.signature:
                self._line(
                    column, "The scene was changed since: run it again to deliver what you see.", colour=ink.accent
                )
            beside = QPushButton("Show beside")
            # joints alone have no surface to be seen by, and grains are no mesh of one topology
            beside.setVisible(item.declared.takes.is_mesh)
            beside.setCheckable(True)
            beside.setChecked(bool(s.view.beside and s.view.beside.title == item.name))
            beside.setToolTip("Play the file back beside the live subject")
            beside.clicked.connect(lambda: panel.show_beside(item.id))
            buttons.addWidget(beside)
            rehearse = QPushButton("Rehearse")
            rehearse.setVisible(any(p.suffix in PLAYED for p in result.paths))
            rehearse.setToolTip("Play the files alone, as a target would")
            rehearse.clicked.connect(lambda: panel.rehearse(item.id))
            buttons.addWidget(rehearse)
        column.addLayout(buttons)

    def _line(self, column, text, soft=False, colour=None):
        label = QLabel(text, wordWrap=True)
        if soft:
            label.setProperty("soft", True)
        if colour:
            label.setStyleSheet(f"color: {colour}; font-weight: 600;")
        column.addWidget(label)

    def mousePressEvent(self, event):
        self.panel.session.selection.select(self.item.id)
