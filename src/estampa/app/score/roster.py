"""The roster: the scene's things as a tree. A subject's layers stand in order; each reads what stands above it."""

from PySide6.QtCore import QSize, Qt
from PySide6.QtWidgets import QAbstractItemView, QHeaderView, QMenu, QTreeWidget, QTreeWidgetItem

from ... import edits as do
from ..session import Session
from ..shell import theme

ROW, UNFOLDED = 26, 96  # pixels
MOST_JOINTS = 3000  # of a skeleton, that are listed
LAST_OF_ALL = 100
ID = Qt.UserRole


def _can_be_off(thing) -> bool:
    """What only stands there is neither on nor off."""
    return thing.declared is None or thing.declared.can_be_off


def _rank(thing) -> int:
    """What is looked at stands first, what is felt last."""
    return thing.declared.roster_rank if thing.declared is not None else LAST_OF_ALL


def _shown_of(thing) -> tuple:
    """All that the tree shows of a thing and its parts."""
    rows = [(t.id, t.kind, t.name, t.on, None) for t in (thing, *thing.stack)]
    return (*rows, *((t.id, t.kind, t.name, t.on, t.values.get("parent")) for t in thing.joints))


class Roster(QTreeWidget):
    def __init__(self, session: Session):
        super().__init__()
        self.session = session
        self.unfolded: set[str] = set()
        self._filling = False
        self._shown: dict[str, tuple] | None = None  # what is shown of each thing, in order
        self._seen: set[str] = set()  # joints that have been listed before
        self._by_id: dict[str, QTreeWidgetItem] = {}
        self._deep: dict[str, int] = {}  # how many joints each joint hangs below a root
        self.setColumnCount(2)
        self.setHeaderLabels(["Roster", ""])
        header = self.header()
        header.setStretchLastSection(False)
        header.setSectionResizeMode(0, QHeaderView.Stretch)
        header.setSectionResizeMode(1, QHeaderView.Fixed)
        header.resizeSection(1, 30)
        header.setFixedHeight(24)
        header.setDefaultAlignment(Qt.AlignLeft | Qt.AlignVCenter)
        self.setIndentation(16)
        self.setIconSize(QSize(16, 16))
        self.setDragDropMode(QAbstractItemView.InternalMove)
        self.setDropIndicatorShown(True)
        self.setEditTriggers(QAbstractItemView.EditKeyPressed | QAbstractItemView.DoubleClicked)
        self.setVerticalScrollMode(QAbstractItemView.ScrollPerPixel)
        self.setContextMenuPolicy(Qt.CustomContextMenu)
        self.setAccessibleName("Roster")
        self.customContextMenuRequested.connect(self._menu)
        self.itemClicked.connect(self._clicked)
        self.setSelectionMode(QAbstractItemView.ExtendedSelection)
        self.itemSelectionChanged.connect(self._chosen)
        self.itemChanged.connect(self._edited)
        session.replaced.connect(self.refresh)
        session.doc_changed.connect(lambda *_: self.refresh())
        session.selection.selected.connect(self._show_selected)
        self.refresh()

    def redraw(self):
        """Fill the tree again even though the scene is the same, as when the ink changes."""
        self._shown = None
        self.refresh()

    def refresh(self):
        """Bring the tree up to date. What is shown as it was keeps its items: a drag of a channel changes nothing here,
        and of two thousand things one that changed is made anew alone."""
        doc = self.session.doc
        shown = {t.id: _shown_of(t) for t in sorted(doc.things, key=_rank)}
        if shown == self._shown and list(shown) == list(self._shown):
            return
        kept = {i for i in shown if self._shown is not None and self._shown.get(i) == shown[i]}
        if [i for i in self._shown or () if i in kept] != [i for i in shown if i in kept]:
            kept = set()  # they changed places
        self._filling = True
        folded = {i for i, item in self._by_id.items() if item.childCount() and not item.isExpanded()}
        scroll = self.verticalScrollBar().value()
        self.setUpdatesEnabled(False)
        if kept:
            for k in range(self.topLevelItemCount() - 1, -1, -1):
                if self.id_of(self.topLevelItem(k)) not in kept:
                    self._forget(self.takeTopLevelItem(k))
        else:
            self.clear()
            self._by_id.clear()
        fresh: list[tuple[int, QTreeWidgetItem]] = []
        for k, thing_id in enumerate(shown):
            if thing_id not in kept:
                fresh.append((k, self._whole_item(doc.find(thing_id))))
        if kept:
            for k, item in fresh:
                self.insertTopLevelItem(k, item)
        else:  # put into the tree when all are made: one by one takes far longer
            self.addTopLevelItems([item for _, item in fresh])
        for _, item in fresh:
            self._open(item, folded)
        self._seen |= {j.id for t in doc.skeletons for j in t.joints[:MOST_JOINTS]}
        if not doc.things:
            hint = QTreeWidgetItem(self, ["Import a mesh to begin (Ctrl+I)"])
            hint.setFlags(Qt.NoItemFlags)
        self._shown = shown
        self.setUpdatesEnabled(True)
        self.verticalScrollBar().setValue(scroll)
        self._filling = False
        self._show_selected()

    def _whole_item(self, thing) -> QTreeWidgetItem:
        item = self._item(None, thing)
        for layer in thing.stack:
            self._item(item, layer)
        if thing.joints:
            self._joints(item, thing)
        return item

    def _forget(self, item):
        self._by_id.pop(self.id_of(item), None)
        for k in range(item.childCount()):
            self._forget(item.child(k))

    def _open(self, item, folded):
        if item.childCount():
            item.setExpanded(self._opens(self.id_of(item), folded))
            for k in range(item.childCount()):
                self._open(item.child(k), folded)

    def _opens(self, thing_id, folded) -> bool:
        thing = self.session.doc.find(thing_id)
        owner = self.session.doc.owner(thing_id)
        if owner is None or thing not in owner.joints:
            return thing_id not in folded
        return thing_id not in folded and (thing_id in self._seen or self._deep.get(thing_id, 0) > 0)

    def _item(self, parent, thing):
        item = QTreeWidgetItem([thing.name, ""])
        if parent is not None:
            parent.addChild(item)
        self._by_id[thing.id] = item
        item.setData(0, ID, thing.id)
        owner = self.session.doc.owner(thing.id)
        flags = Qt.ItemIsEnabled | Qt.ItemIsSelectable | Qt.ItemIsEditable
        if owner is not None and thing in owner.stack:
            flags |= Qt.ItemIsDragEnabled
        if thing.declared is not None and thing.declared.moves and owner is None:
            flags |= Qt.ItemIsDropEnabled
        item.setFlags(flags)
        shade = theme.ink.ink if thing.on else theme.ink.rule
        item.setIcon(0, theme.icon(thing.kind, shade))
        item.setForeground(0, theme.brush(shade))
        if _can_be_off(thing):
            item.setIcon(1, theme.icon("eye" if thing.on else "eye_off", theme.ink.soft))
            item.setToolTip(1, "Switch on or off (O)")
        declared = thing.declared
        item.setToolTip(
            0,
            f"{declared.title}: {declared.summary()}"
            if declared
            else f"“{thing.kind}” is not understood; kept as it is",
        )
        item.setSizeHint(0, QSize(100, UNFOLDED if thing.id in self.unfolded else ROW))
        return item

    def _joints(self, item, skeleton):
        """Strand by strand, folded away until they are asked for: the joints of a strand stand under its first one, and
        a strand that hangs on a joint stands under that."""
        bones = self.session.scene.values.bones(skeleton)
        made = {}
        for strand in bones.strands(bones.order[:MOST_JOINTS]):
            first = made[int(strand[0])] = self._item(
                made.get(int(bones.parents[strand[0]]), item), bones.joints[strand[0]]
            )
            for i in strand[1:]:
                made[int(i)] = self._item(first, bones.joints[i])
        self._deep |= {bones.joints[i].id: int(bones.depth[i]) for i in made}

    def items(self) -> list[QTreeWidgetItem]:
        """Items from top to bottom, what is within another after it."""
        found, left = [], [self.topLevelItem(i) for i in range(self.topLevelItemCount())][::-1]
        while left:
            item = left.pop()
            found.append(item)
            left += [item.child(k) for k in range(item.childCount())][::-1]
        return found

    @staticmethod
    def id_of(item) -> str | None:
        return item.data(0, ID) if item is not None else None

    def item_for(self, thing_id):
        return self._by_id.get(thing_id)

    def set_unfolded(self, thing_id: str, on: bool):
        (self.unfolded.add if on else self.unfolded.discard)(thing_id)
        item = self.item_for(thing_id)
        if item is not None:
            item.setSizeHint(0, QSize(100, UNFOLDED if on else ROW))
            self.scheduleDelayedItemsLayout()

    def _show_selected(self):
        if not self._filling:
            self._filling = True
            item = self.item_for(self.session.selection.selected_id)
            folded = item is not None and item.parent() is not None and not item.parent().isExpanded()
            self.setAutoScroll(not folded)  # scrolling to it would unfold its subject
            wanted = {self.session.selection.selected_id, *self.session.selection.also}
            if {self.id_of(i) for i in self.selectedItems()} != wanted:
                self.setCurrentItem(item)
                for other in self.items() if self.session.selection.also else ():
                    if self.id_of(other) in self.session.selection.also:
                        other.setSelected(True)
            self._filling = False

    def _chosen(self):
        """The last one that was chosen is selected; other joints go along, for their curves and more."""
        ids = [self.id_of(i) for i in self.selectedItems() if self.id_of(i)]
        if not self._filling and ids:
            current = self.id_of(self.currentItem())
            self.session.selection.select(current if current in ids else ids[0], ids)

    def _clicked(self, item, column):
        thing = self.session.doc.find(self.id_of(item))
        if column == 1 and thing is not None and _can_be_off(thing):
            do.set_on(self.session.scene, thing.id, not thing.on)

    def _edited(self, item, column):
        if not self._filling and column == 0:
            do.rename(self.session.scene, self.id_of(item), item.text(0))
            self.redraw()  # what was typed may not be the name it got

    def dropEvent(self, event):
        """A layer is dropped between its neighbours. The tree is drawn again from the document."""
        moved, target = self.currentItem(), self.itemAt(event.position().toPoint())
        event.setDropAction(Qt.IgnoreAction)
        event.accept()
        if moved is None or moved.parent() is None or target is None:
            return
        where = self.dropIndicatorPosition()
        self.drop_layer(self.id_of(moved), self.id_of(target), after=where != QAbstractItemView.AboveItem)

    def drop_layer(self, layer_id: str, target_id: str, after: bool):
        doc = self.session.doc
        owner = doc.owner(layer_id)
        if owner is None or doc.find(layer_id) not in owner.stack:
            return
        others = [l.id for l in owner.stack if l.id != layer_id]
        if target_id == owner.id:
            place = 0
        elif target_id in others:
            place = others.index(target_id) + int(after)
        else:
            return  # a layer stays in its own stack
        do.move_layer(self.session.scene, layer_id, place)

    def _menu(self, at):
        item = self.itemAt(at)
        if item is None or not self.id_of(item):
            return
        self.session.selection.select(self.id_of(item))
        menu = QMenu(self)
        for name in (
            "rename",
            "duplicate",
            "switch",
            "isolate",
            "layer_up",
            "layer_down",
            "unfold",
            "curves",
            "remove",
        ):
            menu.addAction(self.window().actions_by_name[name])
        menu.exec(self.viewport().mapToGlobal(at))
