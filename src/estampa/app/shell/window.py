"""The window: viewport, score, and the panels at the right."""

from pathlib import Path

from PySide6.QtCore import QEvent, Qt
from PySide6.QtWidgets import (
    QAbstractButton,
    QApplication,
    QComboBox,
    QLabel,
    QMainWindow,
    QMenu,
    QSplitter,
    QTabWidget,
    QVBoxLayout,
    QWidget,
)

from ... import demo
from ... import edits as do
from ...edits import joints as build
from ...errors import EstampaError
from ...formats.asset import SUFFIXES
from ...kinds.panels import panels
from ...kinds.registry import kind_of
from ..facets import facet_of
from ..facets.by_hand import ByHand
from ..panels import own  # noqa: F401  which declares our panels
from ..panels.sheet import Sheet
from ..score.score import Score
from ..session import Session
from ..view.grains import HOW
from ..view.render import SHADES
from ..view.toolstrip import ToolStrip
from ..view.viewport import Viewport
from . import theme
from .actions import declare
from .assets import Assets
from .files import Files, ask_first
from .finder import Finder
from .movie_dialog import MovieDialog
from .notice import Notice
from .rigging import Rigging
from .skeletons import Skeletons
from .welcome import Welcome

TOOLS = (
    "tool_hand", "tool_pick", "tool_gradient", "tool_place", "tool_joint", "tool_paint", "tool_match", None,
    "frame_selection", "shading", "wire", "yarns", None,
    "meshes", "controls", "joints", "trails", "ghosts", "hold", "look_through", "second_pane", "movie",
)  # fmt: skip
SHOWN = (
    "wire", "yarns", "pieces", "stretch", "meshes", "controls", "trails", "ghosts", "shapes", "joints", "grain_trails",
    "cut", "shadows",
)  # fmt: skip
WORDED = ("tool_hand", "tool_pick", "tool_joint", "shading")  # that keep their words when there is little room


class Window(QMainWindow):
    def __init__(self, session: Session | None = None):
        super().__init__()
        self.session = session or Session()
        self.resize(1280, 800)
        self.setAcceptDrops(True)
        self.files = Files(self)
        self._left = False  # the person chose to leave unsaved work
        self.rigging, self.skeletons, self.assets = Rigging(self), Skeletons(self), Assets(self)
        self.actions_by_name = declare(self)
        self.viewport = Viewport(self.session)
        self.second: Viewport | None = None  # made when it is first asked for
        self.pinned: Sheet | None = None
        self.score = Score(self.session, self.actions_by_name)
        self.panel_of = {panel.word: panel.make(self) for panel in panels()}
        self.sheets, self.maps, self.joints = (self.panel_of[word] for word in ("sheet", "maps", "joints"))
        self.loop, self.press, self.remarks = (self.panel_of[word] for word in ("loop", "press", "remarks"))
        self.sheet: Sheet = self.sheets.widget(0)
        self._lay_out()
        self._make_menus()
        self.welcome = Welcome(self.viewport, self)
        self.viewport.installEventFilter(self)
        QApplication.instance().focusChanged.connect(self._watch_focus)
        s = self.session
        s.notice.connect(self._show_notice)
        s.asked.connect(self._ask)
        s.doc_changed.connect(lambda *_: self._refresh())
        s.replaced.connect(self._scene_replaced)
        s.selection.selected.connect(self._refresh)
        s.work.lanes_changed.connect(self._refresh)
        s.view.view_changed.connect(self._refresh)
        s.player.playing_changed.connect(self._refresh)
        s.work.jobs.changed.connect(self._refresh)
        self._refresh()

    def _watch_focus(self, old, now):
        """Hear only what has the focus: a filter on the whole application would see every event there is."""
        if isinstance(old, (QAbstractButton, QComboBox)):
            old.removeEventFilter(self)
        if isinstance(now, (QAbstractButton, QComboBox)):
            now.installEventFilter(self)

    def eventFilter(self, watched, event):
        """Space presses a button that has the focus, though it also plays."""
        if watched is self.viewport:
            if event.type() == QEvent.Resize:
                self.welcome.resize(watched.size())
        elif event.type() == QEvent.ShortcutOverride and event.key() == Qt.Key_Space:
            event.accept()
            return True
        return super().eventFilter(watched, event)

    # -- lay-out -------------------------------------------------------------------------------------------
    def _lay_out(self):
        self.panels = QTabWidget()
        self.panels.setMinimumWidth(286)
        self.panels.setUsesScrollButtons(False)
        self.panels.setElideMode(Qt.ElideRight)
        for panel in panels():
            self.panels.addTab(self.panel_of[panel.word], panel.title)
        left = QWidget()
        column = QVBoxLayout(left)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self._tools())
        self.view_split = QSplitter(Qt.Horizontal)
        self.view_split.setHandleWidth(2)
        self.view_split.addWidget(self.viewport)
        self.viewport.activated.connect(self._use_pane)
        self.viewport.chain_dragged.connect(self.skeletons.chain_between)
        column.addWidget(self.view_split, 1)
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
        self.tools = strip = ToolStrip([self.actions_by_name[n] if n else None for n in TOOLS], WORDED)
        self.scene_name = QLabel()
        self.scene_name.setProperty("soft", True)
        strip.put_last(self.scene_name, self.actions_by_name["find"])
        return strip

    # -- commands ------------------------------------------------------------------------------------------
    def _make_menus(self):
        menus: dict[str, QMenu] = {}
        for action in self.actions_by_name.values():
            self._menu(menus, action.property("menu")).addAction(action)
        demos = QMenu("Open a demo", self)
        demos.setToolTipsVisible(True)
        for name in demo.names():
            demos.addAction(name.capitalize(), lambda n=name: self.open_demo(n)).setToolTip(demo.about(name))
        menus["Scene"].insertMenu(self.actions_by_name["save"], demos)

    def _menu(self, menus, title: str) -> QMenu:
        """A menu by its title, or one within another: “Add/Bend and shape”."""
        if title not in menus:
            outer, _, inner = title.rpartition("/")
            menus[title] = self._menu(menus, outer).addMenu(inner) if outer else self.menuBar().addMenu(title)
            menus[title].setToolTipsVisible(True)
        return menus[title]

    def _refresh(self):
        s, a = self.session, self.actions_by_name
        scene = s.scene
        name = scene.path.name if scene.path else scene.doc.name
        changed = scene.is_changed
        self.setWindowTitle(f"{name}{' · not saved' if changed else ''} · Estampa")
        self.tools.say(
            f"{name}{' · not saved' if changed else ''}{'' if s.desk.lock_is_ours else ' · open in another window'}"
        )
        a["undo"].setText(f"Undo {scene.undo_label}" if scene.undo_label else "Undo")
        a["redo"].setText(f"Redo {scene.redo_label}" if scene.redo_label else "Redo")
        a["undo"].setEnabled(scene.undo_label is not None)
        a["redo"].setEnabled(scene.redo_label is not None)
        a["play"].setIcon(theme.icon("pause" if s.player.playing else "play"))
        a["play"].setText("Pause" if s.player.playing else "Play")
        for tool in ("hand", "pick", "gradient", "place", "joint", "paint", "match"):
            a[f"tool_{tool}"].setChecked(s.view.tool == tool)
        look = s.view.look_of_pane
        for name in SHOWN:
            a[name].setChecked(getattr(look, name))
        a["shade"].setText(f"Backdrop: {SHADES[look.shade][0].lower()}")
        a["grains_as"].setText(f"Grains {HOW[look.grains].lower()}")
        a["follow"].setChecked(s.view.following)
        a["shading"].setText({"smooth": "Smooth", "facets": "Facets", "none": "Lines"}[look.shading])
        a["look_through"].setChecked(s.doc.find(look.camera) is not None)
        a["auto_key"].setChecked(s.view.auto_key)
        a["hold"].setChecked(s.view.held is not None)
        a["live"].setChecked(s.player.live is not None)
        a["isolate"].setChecked(bool(s.selection.isolated))
        a["second_pane"].setChecked(self.second is not None and self.second.isVisible())
        a["curves"].setChecked(self.score.stack.currentWidget() is self.score.curves)
        a["pin"].setChecked(self.pinned is not None)
        a["cancel"].setEnabled(s.work.jobs.busy or s.player.playing)
        thing = s.selection.thing
        for word in ("rename", "duplicate", "switch", "remove"):
            a[word].setEnabled(thing is not None)
        for word in ("layer_up", "layer_down"):
            a[word].setEnabled(thing is not None and s.doc.owner(thing.id) is not None)
        count = len(s.work.remarks)
        self.panels.setTabText(self.panels.indexOf(self.remarks), f"Remarks ({count})" if count else "Remarks")
        worst = any(r.severity == "error" for r in s.work.remarks)
        self.panels.tabBar().setTabTextColor(
            self.panels.indexOf(self.remarks), theme.ink.accent if worst else theme.ink.soft
        )

    def open_demo(self, name: str):
        """Open a demo, framed, and play it once."""

        def go():
            self.session.replace(demo.build(name))
            self.session.player.play_once()

        self.files.leave_then(go)

    # -- what commands do ------------------------------------------------------------------------------------
    def use_tool(self, tool: str):
        self.session.view.set_view(tool=tool)
        self.show_panel("maps")

    def show_panel(self, word: str):
        self.panels.setCurrentWidget(self.panel_of[word])

    def next_shading(self):
        order = ("smooth", "facets", "none")
        now = self.session.view.look_of_pane.shading
        self.session.view.set_view(shading=order[(order.index(now) + 1) % 3])

    def toggle(self, name: str):
        """Turn a switch of the active pane, or of the window, on or off."""
        s = self.session
        held = s.view.look_of_pane if hasattr(s.view.look_of_pane, name) else s.view
        s.view.set_view(**{name: not getattr(held, name)})

    def next_grains(self):
        """The next way in which grains are drawn."""
        view, ways = self.session.view, list(HOW)
        view.set_view(grains=ways[(ways.index(view.look_of_pane.grains) + 1) % len(ways)])

    def next_shade(self):
        """The next backdrop of the active pane."""
        view, ways = self.session.view, list(SHADES)
        view.set_view(shade=ways[(ways.index(view.look_of_pane.shade) + 1) % len(ways)])

    def follow(self):
        """Let the view go along with the picked grain, or let go of it."""
        view = self.session.view
        if view.picked is None:
            raise EstampaError("The view", "follows a grain that is picked.", "Click on one with the Hand tool (H).")
        view.set_view(following=not view.following)
        self.session.pictures.look()

    # -- panes ---------------------------------------------------------------------------------------------
    @property
    def active_pane(self) -> Viewport:
        shown = self.second is not None and self.second.isVisible()
        return self.second if self.session.view.pane == 1 and shown else self.viewport

    def _use_pane(self, pane: int):
        if self.session.view.pane != pane:
            self.session.view.pane = pane
            self.session.view.view_changed.emit()

    def toggle_pane(self):
        """Show another view beside the first, or put it away."""
        if self.second is None:
            self.second = Viewport(self.session, 1)
            self.second.activated.connect(self._use_pane)
            self.second.chain_dragged.connect(self.skeletons.chain_between)
            self.view_split.addWidget(self.second)
            self.view_split.setSizes([640, 320])
            self.second.hide()
        self.second.setVisible(not self.second.isVisible())
        self._use_pane(1 if self.second.isVisible() else 0)
        self.second.frame_all()
        self._refresh()

    def look_through(self):
        """The active pane looks through the selected camera, the only one there is, or itself again."""
        s, look = self.session, self.session.view.look_of_pane
        cameras = s.doc.of_kind("camera")
        if s.doc.find(look.camera) is not None:
            s.view.set_view(camera=None)
        elif s.selection.thing in cameras:
            s.view.set_view(camera=s.selection.thing.id)
        elif cameras:
            s.view.set_view(camera=cameras[0].id)
        else:
            s.notice.emit("note", "There is no camera yet. Add one from the Add menu.", "")
        self._refresh()

    def isolate(self):
        s = self.session
        thing = s.selection.subject or s.selection.thing
        s.selection.isolated = set() if s.selection.isolated or thing is None else {thing.id}
        s.view.view_changed.emit()

    def film(self):
        self.movie_dialog = MovieDialog(self, self.active_pane)
        self.movie_dialog.open()

    def toggle_curves(self):
        stack = self.score.stack
        stack.setCurrentWidget(self.score.lanes if stack.currentWidget() is self.score.curves else self.score.curves)
        self.score.curves.graph.fit()
        self._refresh()

    def toggle_pin(self):
        """Keep the sheet of what is selected below the other, or let it go."""
        if self.pinned is not None:
            self.pinned.setParent(None)
            self.pinned.deleteLater()
            self.pinned = None
        elif self.session.selection.thing is not None:
            self.pinned = Sheet(self.session, pinned=self.session.selection.selected_id)
            self.sheets.addWidget(self.pinned)
            self.show_panel("sheet")
        self._refresh()

    def toggle_night(self):
        theme.use(QApplication.instance(), night=theme.ink is theme.PAPER)
        for action in self.actions_by_name.values():
            action.setIcon(theme.icon(action.data()))
        self.score.roster.redraw()
        self.score.curves.redraw()
        self.sheet.redraw()
        if self.pinned is not None:
            self.pinned.redraw()
        self.loop.refresh(again=True)
        self.press.refresh()
        self._refresh()

    def unfold(self):
        roster = self.score.roster
        if self.session.selection.selected_id:
            roster.set_unfolded(
                self.session.selection.selected_id, self.session.selection.selected_id not in roster.unfolded
            )
            self.score.lanes.update()

    def find(self):
        Finder(self, list(self.actions_by_name.values())).open()

    def add_something(self):
        """Everything that can be added, with a picture and a sentence; the most used first."""
        found = [(n.removeprefix("add_"), a) for n, a in self.actions_by_name.items() if n.startswith("add_")]
        ranked = sorted(found, key=lambda f: (kind_of(f[0]).rank, f[1].text()))
        Finder(
            self, [a for _, a in ranked], "Add", "Type what you want: bend, wind, follow a path…", described=True
        ).open()

    def rename(self):
        item = self.score.roster.item_for(self.session.selection.selected_id)
        if item is not None:
            self.score.roster.setFocus()
            self.score.roster.editItem(item, 0)

    def duplicate(self):
        if self.session.selection.thing is not None:
            self.session.selection.select(do.duplicate(self.session.scene, self.session.selection.selected_id).id)

    def switch(self):
        thing = self.session.selection.thing
        if thing is not None:
            do.set_on(self.session.scene, thing.id, not thing.on)

    def remove(self):
        if self.session.selection.thing is not None:
            if self.session.selection.thing in self.session.selection.joints:
                build.remove_joint(self.session.scene, self.session.selection.selected_id)
            else:
                do.remove(self.session.scene, self.session.selection.selected_id)

    def move_layer(self, by: int):
        owner = self.session.doc.owner(self.session.selection.selected_id)
        if owner is not None and self.session.selection.thing in owner.stack:
            place = owner.stack.index(self.session.selection.thing)
            do.move_layer(self.session.scene, self.session.selection.selected_id, place + by)

    def key_all(self):
        s, thing = self.session, self.session.selection.thing
        keyed = [n for n in thing.declared.channels if thing.curve(n)] if thing is not None and thing.declared else []
        if not keyed:
            s.notice.emit(
                "note", "No channel of the selection is keyed yet. Click the key beside a channel in the sheet.", ""
            )
        for name in keyed:
            do.set_key(s.scene, thing.id, name, s.player.frame)

    def add_thing(self, kind: str):
        facet_of(kind_of(kind)).add(ByHand(self, kind))

    def run_prints(self):
        if not self.session.doc.prints:
            self.session.notice.emit("note", "There is no print yet. Add one in the press.", "")
        self.show_panel("press")
        self.press.run([p.id for p in self.session.doc.prints if p.on and p.declared])

    def _scene_replaced(self):
        self._refresh()
        if not self.session.desk.lock_is_ours:
            self.session.notice.emit(
                "note",
                f"{self.session.scene.path.name} is open in another window. You can look and try, "
                "but save under another name.",
                "",
            )

    def closeEvent(self, event):
        if self.session.scene.is_changed and not self._left:
            event.ignore()
            self.files.leave_then(self._leave)
        else:
            QApplication.instance().removeEventFilter(self)
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
            self.files.open(Path(url.toLocalFile()))

    def _ask(self, words, go):
        carry_out = lambda: self.session.carry_out(go)
        self.question = ask_first(self, words, ("Do it", "Leave it"), carry_out, self.sheet.refresh)

    def _show_notice(self, level, text, detail):
        self.notice.say(level, text, detail)
