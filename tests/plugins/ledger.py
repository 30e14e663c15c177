"""A panel, as a newcomer would write one: how many layers each subject has."""

from estampa.kinds.panels import Panel


class Ledger(Panel):
    word, title, rank, shortcut = "ledger", "Ledger", 90, "Shift+F12"

    def make(self, window):
        from PySide6.QtWidgets import QListWidget

        told, session = QListWidget(), window.session

        def refresh(*_):
            told.clear()
            told.addItems([f"{t.name}: {len(t.stack)} layers" for t in session.doc.subjects])

        session.doc_changed.connect(refresh)
        session.replaced.connect(refresh)
        refresh()
        return told
