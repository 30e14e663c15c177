"""The window: viewport, score, and the panels at the right; and every command, declared once."""

from pathlib import Path

from PySide6.QtCore import QSize, Qt, QTimer
from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import (
    QFileDialog,
    QFrame,
    QHBoxLayout,
    QLabel,
    QMainWindow,
    QMenu,
    QMessageBox,
    QPushButton,
    QSplitter,
    QTabWidget,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from .. import demo
from ..errors import EstampaError
from ..formats.meshfile import SUFFIXES
from ..scene import commands as do
from ..scene import file
from ..scene.channels import kinds_in
from ..scene.scene import Scene
from . import theme
from .finder import Finder
from .import_dialog import ImportDialog, ReadFile
from .maps_panel import MapsPanel
from .press_panel import PressPanel
from .remarks_panel import RemarksPanel
from .score import Score
from .session import Session
from .sheet import Sheet, add_layer
from .tasks import Job
from .viewport import Viewport

PANELS = ("sheet", "maps", "press", "remarks")


class Window(QMainWindow):
    def __init__(self, session: Session | None = None):
        super().__init__()
        self.session = session or Session()
        self.resize(1280, 800)
        self.setAcceptDrops(True)
        self.actions_by_name: dict[str, QAction] = {}
        self._left = False  # the person chose to leave unsaved work
        self._declare_actions()
        self.viewport = Viewport(self.session)
        self.score = Score(self.session, self.actions_by_name)
        self.sheet = Sheet(self.session)
        self.maps = MapsPanel(self.session, self.actions_by_name)
        self.press = PressPanel(self.session, self.actions_by_name)
        self.remarks = RemarksPanel(self.session)
        self._lay_out()
        self._make_menus()
        s = self.session
        s.notice.connect(self._show_notice)
        s.doc_changed.connect(lambda *_: self._refresh())
        s.replaced.connect(self._scene_replaced)
        s.selected.connect(self._refresh)
        s.view_changed.connect(self._refresh)
        s.playing_changed.connect(self._refresh)
        s.jobs.changed.connect(self._refresh)
        self._refresh()

    # -- lay-out -------------------------------------------------------------------------------------------
    def _lay_out(self):
        self.panels = QTabWidget()
        self.panels.setMinimumWidth(300)
        for word, widget in zip(PANELS, (self.sheet, self.maps, self.press, self.remarks), strict=True):
            self.panels.addTab(widget, word.capitalize())
        left = QWidget()
        column = QVBoxLayout(left)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self._tools())
        column.addWidget(self.viewport, 1)
        top = QSplitter(Qt.Horizontal)
        top.setHandleWidth(1)
        top.addWidget(left)
        top.addWidget(self.panels)
        top.setStretchFactor(0, 1)
        top.setSizes([940, 340])
        whole = QSplitter(Qt.Vertical)
        whole.setHandleWidth(1)
        whole.addWidget(top)
        whole.addWidget(self.score)
        whole.setStretchFactor(0, 1)
        whole.setSizes([478, 300])
        self.notice = Notice()
        middle = QWidget()
        column = QVBoxLayout(middle)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.notice)
        column.addWidget(whole, 1)
        self.setCentralWidget(middle)

    def _tools(self):
        strip = QFrame()
        strip.setProperty("strip", True)
        row = QHBoxLayout(strip)
        row.setContentsMargins(8, 3, 8, 3)
        row.setSpacing(3)
        for name in ("tool_hand", "tool_pick", "tool_gradient", None, "frame_selection", "shading", "wire"):
            if name is None:
                row.addSpacing(14)
                continue
            button = QToolButton(iconSize=QSize(16, 16), toolButtonStyle=Qt.ToolButtonTextBesideIcon)
            button.setDefaultAction(self.actions_by_name[name])
            row.addWidget(button)
        row.addStretch(1)
        self.scene_name = QLabel()
        self.scene_name.setProperty("soft", True)
        row.addWidget(self.scene_name)
        find = QToolButton(iconSize=QSize(16, 16), toolButtonStyle=Qt.ToolButtonIconOnly)
        find.setDefaultAction(self.actions_by_name["find"])
        row.addWidget(find)
        return strip

    # -- commands ------------------------------------------------------------------------------------------
    def _declare_actions(self):
        """(name, menu, words, shortcut, icon, help, what it does). Menus, tool strips and the finder draw from this."""
        s = self.session
        maps = lambda what: lambda: getattr(self.maps, what[0])(*what[1:])
        table = [
            ("new", "Scene", "New scene", "Ctrl+N", "subject", "Begin with an empty scene", self.new_scene),
            ("open", "Scene", "Open…", "Ctrl+O", "open", "Open a scene", self.ask_open),
            ("import", "Scene", "Import a mesh…", "Ctrl+I", "subject", "OBJ, PLY, STL, GLB or glTF", self.ask_import),
            ("save", "Scene", "Save", "Ctrl+S", "save", "Save the scene", self.save),
            ("save_as", "Scene", "Save as…", "Ctrl+Shift+S", "save", "Save the scene under another name", self.ask_save),
            ("quit", "Scene", "Quit", "Ctrl+Q", "remove", "Close Estampa", self.close),
            ("undo", "Edit", "Undo", "Ctrl+Z", "reset", "Take back the last edit", s_call(s, "undo")),
            ("redo", "Edit", "Redo", "Ctrl+Shift+Z", "reset", "Do again what was taken back", s_call(s, "redo")),
            ("rename", "Edit", "Rename", "F2", "key", "Rename what is selected", self.rename),
            ("duplicate", "Edit", "Duplicate", "Ctrl+D", "add", "Copy what is selected", self.duplicate),
            ("switch", "Edit", "Switch on or off", "O", "eye", "Switch what is selected on or off", self.switch),
            ("remove", "Edit", "Remove", "Shift+Delete", "remove", "Remove what is selected (can be undone)", self.remove),
            ("layer_up", "Edit", "Move the layer up", "Ctrl+Up", "more", "It then reads less, and moves what stands below", lambda: self.move_layer(-1)),
            ("layer_down", "Edit", "Move the layer down", "Ctrl+Down", "more", "It then reads what stands above it", lambda: self.move_layer(1)),
            ("set_key", "Edit", "Key every keyed channel here", "K", "key", "Put keys at this frame on the keyed channels of what is selected", self.key_all),
            *(("add_" + k.kind, "Add", f"Add {k.title.lower()} layer", f"Ctrl+{i}", k.kind, k.summary(), lambda k=k.kind: add_layer(s, k))
              for i, k in enumerate(sorted(kinds_in("layer"), key=lambda k: k.kind), 1)),
            *(("add_" + k.kind, "Add", f"Add {k.title.lower()}", f"Alt+{i}", k.kind, k.summary(), lambda k=k.kind: self.add_thing(k))
              for i, k in enumerate([*sorted(kinds_in("force"), key=lambda k: k.kind), *(k for k in kinds_in("thing") if k.kind == "grip")], 1)),
            *(("add_" + k.kind, "Press", f"Add {k.title.lower()} print", f"Ctrl+Alt+{i}", k.kind, k.summary(),
               lambda k=k.kind: (self.press.add_print(k), self.show_panel("press"))) for i, k in enumerate(kinds_in("print"), 1)),
            ("press_all", "Press", "Run all prints", "Ctrl+Return", "press", "Solve, write and read back every print", self.run_prints),
            ("tool_hand", "Tools", "Hand", "H", "hand", "Turn the view, select things and take hold of grips", lambda: s.set_view(tool="hand")),
            ("tool_pick", "Tools", "Pick", "P", "pick", "Choose vertices by click or box; Shift adds, Ctrl takes away, a double click takes the island",
             lambda: self.use_tool("pick")),
            ("tool_gradient", "Tools", "Gradient", "G", "gradient", "Drag from 0 to 1 to lay a straight gradient in the active map",
             lambda: self.use_tool("gradient")),
            ("choose_all", "Maps", "Choose all", "Ctrl+A", "pick", "Choose every vertex of the subject", maps(("choose", "all"))),
            ("choose_none", "Maps", "Choose none", "Ctrl+Shift+A", "remove", "Choose no vertex", maps(("choose", "none"))),
            ("choose_islands", "Maps", "Whole islands", "I", "subject", "Grow what is chosen to its connected islands", self.islands),
            ("choose_uncovered", "Maps", "Uncovered", "U", "find", "Choose the vertices that no map covers yet", maps(("choose", "uncovered"))),
            ("map_new", "Maps", "New map", "Ctrl+M", "add", "Make a weight map of the chosen vertices", maps(("new_map",))),
            ("map_set", "Maps", "Set", "Shift+E", "key", "Set the weight of the chosen vertices", maps(("change", "set"))),
            ("map_add", "Maps", "Add", "Shift+A", "add", "Add to the weight of the chosen vertices", maps(("change", "add"))),
            ("map_take", "Maps", "Take", "Shift+T", "remove", "Take from the weight of the chosen vertices", maps(("change", "take"))),
            ("map_smooth", "Maps", "Smooth", "Shift+S", "noise", "Even out the weights of the chosen vertices", maps(("smooth",))),
            ("map_invert", "Maps", "Invert", "Shift+I", "reset", "Turn 0 into 1 and 1 into 0 in the chosen vertices", maps(("invert",))),
            ("map_remove", "Maps", "Remove", "", "remove", "Remove the active map (can be undone)", maps(("remove",))),
            ("frame_selection", "View", "Frame", "F", "frame", "Bring what is selected into view", lambda: self.viewport.frame_selection()),
            ("frame_all", "View", "Frame all", "Shift+F", "frame", "Bring everything into view", lambda: self.viewport.frame_all()),
            ("shading", "View", "Shading", "S", "eye", "Smooth, then facets, then lines alone", self.next_shading),
            ("wire", "View", "Wire", "W", "wire", "Draw the edges over the surface", lambda: s.set_view(wire=not s.wire)),
            ("unfold", "View", "Unfold the lane", "Y", "more", "Show the curves of what is selected in its lane", self.unfold),
            ("night", "View", "Night ink", "", "eye", "Dark panels, the same palette", self.toggle_night),
            *((f"panel_{p}", "View", f"Show the {p}", f"F{i}", "open", f"Bring the {p} to the front", lambda p=p: self.show_panel(p))
              for i, p in enumerate(PANELS, 5)),
            ("find", "View", "Find a command…", "Ctrl+J", "find", "Every command by name, with its shortcut", self.find),
            ("play", "Play", "Play", "Space", "play", "Play; solves what is not solved yet", lambda: s.play(not s.playing)),
            ("first", "Play", "To the first frame", "Home", "first", "Go to the first frame", lambda: s.go_to(s.doc.start)),
            ("last", "Play", "To the last frame", "End", "last", "Go to the last frame", lambda: s.go_to(s.doc.end)),
            ("next", "Play", "Next frame", ".", "play", "Go to the next frame", lambda: s.go_to(s.frame + 1)),
            ("previous", "Play", "Previous frame", ",", "play", "Go to the frame before", lambda: s.go_to(s.frame - 1)),
            ("solve", "Play", "Solve", "Ctrl+Space", "solve", "Solve every frame of the range, beside the window", s.solve),
            ("cancel", "Play", "Cancel", "Escape", "stop", "Stop what is under way; what is solved stays", s.cancel),
        ]
        for name, menu, words, keys, icon, help_text, run in table:
            action = QAction(theme.icon(icon), words, self)
            action.setData(icon)
            if keys:
                action.setShortcut(QKeySequence(keys))
            action.setToolTip(f"{help_text} ({keys})" if keys else help_text)
            action.setProperty("menu", menu)
            action.triggered.connect(lambda _=False, run=run: self._do(run))
            self.addAction(action)
            self.actions_by_name[name] = action
        for name in ("tool_hand", "tool_pick", "tool_gradient", "wire", "night"):
            self.actions_by_name[name].setCheckable(True)

    def _do(self, run):
        try:
            run()
        except EstampaError as err:
            self.session.tell(err)

    def _make_menus(self):
        menus: dict[str, QMenu] = {}
        for action in self.actions_by_name.values():
            title = action.property("menu")
            if title not in menus:
                menus[title] = self.menuBar().addMenu(title)
                menus[title].setToolTipsVisible(True)
            menus[title].addAction(action)
        demos = QMenu("Open a demo", self)
        for name in demo.names():
            demos.addAction(name.capitalize(), lambda n=name: self._leave_then(lambda: self.session.replace(demo.build(n))))
        menus["Scene"].insertMenu(self.actions_by_name["save"], demos)

    def _refresh(self):
        s, a = self.session, self.actions_by_name
        scene = s.scene
        name = scene.path.name if scene.path else scene.doc.name
        changed = scene.is_changed
        self.setWindowTitle(f"{name}{' · not saved' if changed else ''} · Estampa")
        self.scene_name.setText(f"{name}{' · not saved' if changed else ''}{'' if s.lock_is_ours else ' · open in another window'}")
        a["undo"].setText(f"Undo {scene.undo_label}" if scene.undo_label else "Undo")
        a["redo"].setText(f"Redo {scene.redo_label}" if scene.redo_label else "Redo")
        a["undo"].setEnabled(scene.undo_label is not None)
        a["redo"].setEnabled(scene.redo_label is not None)
        a["play"].setIcon(theme.icon("pause" if s.playing else "play"))
        a["play"].setText("Pause" if s.playing else "Play")
        for tool in ("hand", "pick", "gradient"):
            a[f"tool_{tool}"].setChecked(s.tool == tool)
        a["wire"].setChecked(s.wire)
        a["shading"].setText({"smooth": "Smooth", "facets": "Facets", "none": "Lines"}[s.shading])
        a["cancel"].setEnabled(s.jobs.busy or s.playing)
        thing = s.thing
        for word in ("rename", "duplicate", "switch", "remove"):
            a[word].setEnabled(thing is not None)
        for word in ("layer_up", "layer_down"):
            a[word].setEnabled(thing is not None and s.doc.owner(thing.id) is not None)
        count = len(s.remarks)
        self.panels.setTabText(PANELS.index("remarks"), f"Remarks ({count})" if count else "Remarks")
        worst = any(r.severity == "error" for r in s.remarks)
        self.panels.tabBar().setTabTextColor(PANELS.index("remarks"), theme.ink.accent if worst else theme.ink.soft)

    # -- what commands do ------------------------------------------------------------------------------------
    def use_tool(self, tool: str):
        self.session.set_view(tool=tool)
        self.show_panel("maps")

    def show_panel(self, word: str):
        self.panels.setCurrentIndex(PANELS.index(word))

    def islands(self):
        self.viewport.choose_islands()

    def next_shading(self):
        order = ("smooth", "facets", "none")
        self.session.set_view(shading=order[(order.index(self.session.shading) + 1) % 3])

    def toggle_night(self):
        from PySide6.QtWidgets import QApplication

        theme.use(QApplication.instance(), night=theme.ink is theme.PAPER)
        for action in self.actions_by_name.values():
            action.setIcon(theme.icon(action.data()))
        self.score.roster.refresh()
        self.press.refresh()
        self.sheet._shown = "another ink"
        self.sheet.refresh()
        self._refresh()

    def unfold(self):
        roster = self.score.roster
        if self.session.selected_id:
            roster.set_unfolded(self.session.selected_id, self.session.selected_id not in roster.unfolded)
            self.score.lanes.update()

    def find(self):
        Finder(self, list(self.actions_by_name.values())).open()

    def rename(self):
        item = self.score.roster.item_for(self.session.selected_id)
        if item is not None:
            self.score.roster.setFocus()
            self.score.roster.editItem(item, 0)

    def duplicate(self):
        if self.session.thing is not None:
            self.session.select(do.duplicate(self.session.scene, self.session.selected_id).id)

    def switch(self):
        thing = self.session.thing
        if thing is not None:
            do.set_on(self.session.scene, thing.id, not thing.on)

    def remove(self):
        if self.session.thing is not None:
            do.remove(self.session.scene, self.session.selected_id)

    def move_layer(self, by: int):
        owner = self.session.doc.owner(self.session.selected_id)
        if owner is not None:
            place = [l.id for l in owner.stack].index(self.session.selected_id)
            do.move_layer(self.session.scene, self.session.selected_id, place + by)

    def key_all(self):
        s, thing = self.session, self.session.thing
        keyed = [n for n in thing.declared.channels if thing.curve(n)] if thing is not None and thing.declared else []
        if not keyed:
            s.notice.emit("note", "No channel of the selection is keyed yet. Click the key beside a channel in the sheet.", "")
        for name in keyed:
            do.set_key(s.scene, thing.id, name, s.frame)

    def add_thing(self, kind: str):
        s = self.session
        values = {}
        if kind == "wind":
            grip = do.add_thing(s.scene, "grip", "Wind direction", {"y": 1.5, "z": -2.0})
            values = {"grip": grip.id}
        s.select(do.add_thing(s.scene, kind, values=values).id)

    def run_prints(self):
        if not self.session.doc.prints:
            self.session.notice.emit("note", "There is no print yet. Add one in the press.", "")
        self.show_panel("press")
        self.press.run([p.id for p in self.session.doc.prints if p.on and p.declared])

    # -- files ---------------------------------------------------------------------------------------------
    def new_scene(self):
        self._leave_then(lambda: self.session.replace(Scene()))

    def ask_open(self):
        path, _ = QFileDialog.getOpenFileName(self, "Open a scene or a mesh", "", "Estampa scenes and meshes (*.estampa "
                                              + " ".join(f"*{s}" for s in SUFFIXES) + ")")
        if path:
            self.open_path(Path(path))

    def ask_import(self):
        path, _ = QFileDialog.getOpenFileName(self, "Import a mesh", "", "Meshes (" + " ".join(f"*{s}" for s in SUFFIXES) + ")")
        if path:
            self.import_mesh(Path(path))

    def open_path(self, path: Path):
        if path.suffix.lower() != ".estampa":
            self.import_mesh(path)
            return

        def work(progress, cancelled):
            progress(0.2, f"Opening {path.name}")
            return file.load_scene(path)

        self._leave_then(lambda: self.session.jobs.add(Job("Open", work, self._opened)))

    def _opened(self, scene: Scene):
        self.session.replace(scene)
        self.offer_recovery()

    def offer_recovery(self):
        """Tell of unsaved work that a crash left behind."""
        path = self.session.scene.path
        found = file.recoverable(path)
        if found is None or not self.session.lock_is_ours:
            return

        def recover():
            try:
                scene = file.load_scene(found)
            except EstampaError as err:
                self.session.tell(err)
                return
            scene.path = path
            scene.saved_doc = None
            self.session.replace(scene)
            self.session._autosaved_doc = None

        self.notice.offer("Estampa ended before this work was saved. An autosave of it is here.", "Recover it", recover,
                          "Leave it", lambda: file.discard_autosave(path))

    def import_mesh(self, path: Path):
        """Read the file beside the window, then ask what its numbers mean."""

        def work(progress, cancelled):
            def step(share, text):
                from ..errors import Cancelled

                if cancelled():
                    raise Cancelled
                progress(share, f"{path.name}: {text}")

            return ReadFile.of(path, step)

        self.session.jobs.add(Job("Import", work, self._ask_about))

    def _ask_about(self, read: ReadFile):
        self.import_dialog = ImportDialog(self, read)
        self.import_dialog.accepted.connect(self._bring_in)
        self.import_dialog.open()

    def _bring_in(self):
        dialog = self.import_dialog
        subject = do.add_mesh(self.session.scene, dialog.result_mesh(), dialog.name.text() or "Subject", dialog.read.path.name)
        self.viewport._forget_framing()
        self.session.select(subject.id)
        self.show_panel("sheet")

    def save(self):
        if self.session.scene.path is None:
            self.ask_save()
        else:
            self.session.save()

    def ask_save(self):
        path, _ = QFileDialog.getSaveFileName(self, "Save the scene", f"{self.session.doc.name}.estampa", "Estampa scenes (*.estampa)")
        if path:
            self.session.save(Path(path).with_suffix(".estampa"))

    def _scene_replaced(self):
        self._refresh()
        if not self.session.lock_is_ours:
            self.session.notice.emit("note", f"{self.session.scene.path.name} is open in another window. You can look and try, "
                                     "but save under another name.", "")

    def _leave_then(self, go):
        """Go on at once, or ask first when there is unsaved work."""
        if not self.session.scene.is_changed:
            go()
            return
        box = QMessageBox(QMessageBox.Question, "Unsaved work", f"{self.session.doc.name} has unsaved work.", parent=self)
        box.setAttribute(Qt.WA_DeleteOnClose)
        save = box.addButton("Save", QMessageBox.AcceptRole)
        leave = box.addButton("Leave it unsaved", QMessageBox.DestructiveRole)
        box.addButton("Stay", QMessageBox.RejectRole)

        def answered(button):
            if button is save:
                self.save()
                if not self.session.scene.is_changed:
                    go()
            elif button is leave:
                file.discard_autosave(self.session.scene.path)
                go()

        box.buttonClicked.connect(answered)
        box.open()

    def closeEvent(self, event):
        if self.session.scene.is_changed and not self._left:
            event.ignore()
            self._leave_then(self._leave)
        else:
            self.session.end()
            event.accept()

    def _leave(self):
        self._left = True
        self.close()

    def dragEnterEvent(self, event):
        if any(u.toLocalFile().lower().endswith((*SUFFIXES, ".estampa")) for u in event.mimeData().urls()):
            event.acceptProposedAction()

    def dropEvent(self, event):
        for url in event.mimeData().urls():
            self.open_path(Path(url.toLocalFile()))

    def _show_notice(self, level, text, detail):
        self.notice.say(level, text, detail)


def s_call(session: Session, word: str):
    """Undo and redo of whatever scene is open when it is called."""
    return lambda: getattr(session.scene, word)()


class Notice(QFrame):
    """A strip across the top that says what happened; details are one click away."""

    def __init__(self):
        super().__init__()
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 5, 8, 5)
        self.text = QLabel(wordWrap=True)
        row.addWidget(self.text, 1)
        self.first, self.second, self.details = QPushButton(), QPushButton(), QPushButton("Details")
        for button in (self.first, self.second, self.details):
            row.addWidget(button)
        self._answers = {}
        for button in (self.first, self.second):
            button.clicked.connect(lambda _=False, b=button: self._answer(b))
        self.close_button = QPushButton("Close")
        self.close_button.clicked.connect(self.hide)
        row.addWidget(self.close_button)
        self.details.clicked.connect(self._show_details)
        self._detail, self._later = "", QTimer(self, singleShot=True)
        self._later.timeout.connect(self.hide)
        self.hide()

    def say(self, level: str, text: str, detail: str = ""):
        self._show(level, text)
        self._detail = detail
        self.details.setVisible(bool(detail))
        self.first.hide()
        self.second.hide()
        if level != "error":
            self._later.start(6000)

    def offer(self, text, yes, run_yes, no, run_no):
        self._show("note", text)
        self.details.hide()
        self._answers = {self.first: run_yes, self.second: run_no}
        for button, words in ((self.first, yes), (self.second, no)):
            button.setText(words)
            button.show()

    def _answer(self, button):
        self.hide()
        self._answers[button]()

    def _show(self, level, text):
        self._later.stop()
        self.setProperty("notice", "error" if level == "error" else "note")
        self.style().unpolish(self)
        self.style().polish(self)
        self.text.style().unpolish(self.text)
        self.text.style().polish(self.text)
        self.text.setText(text)
        self.show()

    def _show_details(self):
        box = QMessageBox(QMessageBox.Information, "Details", self.text.text(), parent=self)
        box.setDetailedText(self._detail)
        box.open()
