"""The help inside the window: what one thing is, the guide section by section, and a search over
both. It ships with the program and needs no network."""

from __future__ import annotations

import contextlib
import html
from typing import Any, NamedTuple

from PyQt6.QtCore import QEvent, QObject, Qt, QUrl
from PyQt6.QtGui import QHideEvent, QKeyEvent, QKeySequence, QShortcut, QShowEvent, QTextCursor
from PyQt6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QStackedWidget,
    QTextBrowser,
    QVBoxLayout,
    QWidget,
)

from hawser.desk.common.appearance import Appearance
from hawser.desk.common.list_rows import NamedRows
from hawser.desk.common.overlay import Overlay
from hawser.desk.common.words import Label
from hawser.desk.models.topics.guide import GuideSection, guide, section
from hawser.desk.models.topics.search import Found, search, topics
from hawser.desk.models.topics.topic import Topic

WIDE, TOP, FOOT, EDGE, AROUND = 470, 60, 44, 76, 92  # px
PAGE = Qt.ItemDataRole.UserRole


class HelpPlace(NamedTuple):
    """All topics of a station, or of one kind of file."""

    name: str


class Searched(NamedTuple):
    """What was found for these words."""

    words: str


Page = Topic | GuideSection | HelpPlace | Searched


class Browser(QTextBrowser):
    """Shows a page; what a page names from outside is not loaded, wherever it lies."""

    def __init__(self) -> None:
        super().__init__()
        self.setOpenLinks(False)
        self.setOpenExternalLinks(False)
        self.setFrameShape(QFrame.Shape.NoFrame)
        document = self.document()
        assert document is not None
        document.setDocumentMargin(10)
        document.setIndentWidth(18)

    def wrap_code(self) -> None:
        """Lines of code go on below instead of out of sight."""
        document = self.document()
        assert document is not None
        block = document.begin()
        while block.isValid():
            if block.blockFormat().nonBreakableLines():
                plain = block.blockFormat()
                plain.setNonBreakableLines(False)
                QTextCursor(block).setBlockFormat(plain)
            block = block.next()

    def loadResource(self, type: int, name: QUrl) -> Any:
        return None


class HelpPanel(Overlay):
    """Over the window, on the side away from what is asked about. Escape puts it away."""

    def __init__(self, parent: QWidget, appearance: Appearance) -> None:
        super().__init__(parent)
        self._before: list[Page | None] = []  # None: the contents
        self._shown: Page | None = None
        self._asked: QWidget | None = None
        self._left = False
        self.field = QLineEdit()
        self.field.setPlaceholderText("Search the help")
        self.field.setAccessibleName("Search the help")
        self.field.setClearButtonEnabled(True)
        self.list, self.browser, self.pages = QListWidget(), Browser(), QStackedWidget()
        self.list.setAccessibleName("Pages of the help")
        self.list.setItemDelegate(NamedRows(appearance))
        appearance.changed.connect(self._themed)
        self.browser.setAccessibleName("Help")
        self.back_button, self.contents_button = QPushButton("Back"), QPushButton("Contents")
        self.back_button.setToolTip("Alt+Left")
        self._lay_out()
        self.field.textEdited.connect(self.find)
        self.field.returnPressed.connect(self._first)
        self.list.itemActivated.connect(self._chosen)
        self.list.itemClicked.connect(self._chosen)
        self.browser.anchorClicked.connect(self._follow)
        self.back_button.clicked.connect(self.back)
        self.contents_button.clicked.connect(self.show_contents)
        back = QShortcut(QKeySequence("Alt+Left"), self)
        back.setContext(Qt.ShortcutContext.WidgetWithChildrenShortcut)
        back.setAutoRepeat(False)
        back.activated.connect(self.back)
        self.hide()

    def _lay_out(self) -> None:
        close = QPushButton("\u00d7")
        close.setProperty("role", "flat")
        close.setFixedSize(24, 24)
        close.setAccessibleName("Close the help")
        close.clicked.connect(self.put_away)
        head = QHBoxLayout()
        for part in (self.field, self.back_button, self.contents_button, close):
            head.addWidget(part)
        for page in (self.list, self.browser):
            self.pages.addWidget(page)
        told = Label("F1: the thing under the pointer or the focus. Esc: close.")
        told.setProperty("role", "small-second")
        box = QVBoxLayout(self)
        box.setContentsMargins(8, 8, 8, 6)
        box.addLayout(head)
        box.addWidget(self.pages, 1)
        box.addWidget(told)

    # Opening

    def open(self, page: Page | None, about: QWidget | None = None) -> None:
        """Show a page, None: the contents; `about`: what it explains, which stays in sight."""
        window = self.parentWidget()
        assert window is not None
        if self.isHidden():
            self._before = []
            self._asked = window.focusWidget()
        elif page != self._shown:
            self._before.append(self._shown)
        self._show(page)
        if about is not None and about.width() < window.width() / 2:
            middle = about.mapTo(window, about.rect().center()).x()
            self._left = middle > window.width() / 2
        else:
            self._left = False
        self._fit()
        self.show()
        self.raise_()
        (self.field if page is None else self.browser).setFocus()

    def _fit(self) -> None:
        """As tall as what one thing is takes, so that little else is hidden; the guide takes all
        there is."""
        window = self.parentWidget()
        assert window is not None
        wide = min(WIDE, window.width() - 2 * EDGE)
        left = EDGE if self._left else window.width() - wide - 8
        high = window.height() - TOP - FOOT
        if isinstance(self._shown, Topic):
            document = self.browser.document()
            assert document is not None
            document.setTextWidth(wide - 40)
            high = min(high, round(document.size().height()) + AROUND)
        self.setGeometry(left, TOP, wide, high)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        """The window may take another size while the help is open."""
        if event is not None and event.type() == QEvent.Type.Resize:
            self._fit()
        return False

    def showEvent(self, event: QShowEvent | None) -> None:
        super().showEvent(event)
        window = self.parentWidget()
        assert window is not None
        window.installEventFilter(self)

    def hideEvent(self, event: QHideEvent | None) -> None:
        super().hideEvent(event)
        window = self.parentWidget()
        assert window is not None
        window.removeEventFilter(self)

    def put_away(self) -> None:
        """Close, and go back to where the person was."""
        self.hide()
        with contextlib.suppress(RuntimeError):  # it is gone meanwhile, as the row of a trade
            if self._asked is not None and self._asked.isVisible():
                self._asked.setFocus()

    def back(self) -> None:
        if self._before:
            self._show(self._before.pop())

    def show_contents(self) -> None:
        self._turn_to(None)
        self.field.setFocus()

    def _turn_to(self, page: Page | None) -> None:
        if page != self._shown:
            self._before.append(self._shown)
        self._show(page)

    # Pages

    def _show(self, page: Page | None) -> None:
        self._shown = page
        words = page.words if isinstance(page, Searched) else ""
        if self.field.text() != words:
            self.field.setText(words)
        if isinstance(page, Topic):
            self.browser.setHtml(_topic_page(page))
        elif isinstance(page, GuideSection):
            self._show_section(page)
        else:
            self._show_list(page)
        of_text = isinstance(page, Topic | GuideSection)
        self.pages.setCurrentWidget(self.browser if of_text else self.list)
        self._fit()
        self.back_button.setEnabled(bool(self._before))

    def _show_section(self, page: GuideSection) -> None:
        sections = guide()
        number = sections.index(page)
        beside = [
            f"[{word}: {sections[at].title}](guide:{at})"
            for word, at in (("Before", number - 1), ("Next", number + 1))
            if 0 <= at < len(sections)
        ]
        above = f"{page.chapter}\n\n" if page.chapter != page.title else ""
        parts = [f"{above}## {page.title}", page.text, "  \n".join(beside)]
        self.browser.setMarkdown("\n\n".join(parts))
        self.browser.wrap_code()

    def _show_list(self, page: HelpPlace | Searched | None) -> None:
        self.list.clear()
        if isinstance(page, HelpPlace):
            self._head(page.name)
            for where, topic in topics():
                if where == page.name:
                    self._item(topic.name, topic)
        elif isinstance(page, Searched):
            for one in search(page.words):
                self._found(one)
            if not self.list.count():
                self._head("Nothing in the help has all these words")
            self.list.setCurrentRow(0)
        else:
            self._list_contents()

    def _list_contents(self) -> None:
        place = ""
        for one in guide():
            if one.chapter != place:
                place = one.chapter
                self._head(f"Guide: {place}" if place != "Words" else place)
            self._item(one.title, one)
        self._head("What stands on the screens")
        for where in dict.fromkeys(where for where, _ in topics()):
            self._item(where, HelpPlace(where))

    def _themed(self) -> None:
        """A page's colours stand in it."""
        if isinstance(self._shown, Topic | GuideSection):
            self._show(self._shown)

    def find(self, words: str) -> None:
        """Each key that is typed: the words so far are one page, to which one comes back."""
        page = Searched(words) if words.strip() else None
        if not isinstance(self._shown, Searched) and self._shown is not None:
            self._before.append(self._shown)
        self._show(page)

    def _found(self, one: Found) -> None:
        self._item(f"{one.title}   ({one.place})\n{one.words}", one.page)

    def _head(self, text: str) -> None:
        item = QListWidgetItem(text)
        item.setFlags(Qt.ItemFlag.NoItemFlags)
        self.list.addItem(item)

    def _item(self, text: str, page: Page) -> None:
        item = QListWidgetItem(text)
        item.setData(PAGE, page)
        self.list.addItem(item)

    # What is chosen

    def _first(self) -> None:
        item = self.list.currentItem()
        if self.pages.currentWidget() is self.list and item is not None:
            self._chosen(item)

    def _chosen(self, item: QListWidgetItem) -> None:
        page = item.data(PAGE)
        if page is not None:
            self._before.append(self._shown)
            self._show(page)
            (self.list if isinstance(page, HelpPlace) else self.browser).setFocus()

    def _follow(self, link: QUrl) -> None:
        """Another page of the help; a link that leads elsewhere is none."""
        if link.scheme() != "guide":
            return
        name = link.path(QUrl.ComponentFormattingOption.FullyDecoded)
        page = guide()[int(name)] if name.isdecimal() else section(name)
        if page is not None:
            self._turn_to(page)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape:
            self.put_away()
        elif event.key() in (Qt.Key.Key_Down, Qt.Key.Key_Up) and self.field.hasFocus():
            self.list.setFocus()
        else:
            super().keyPressEvent(event)


def _topic_page(topic: Topic) -> str:
    """Its parts as they are declared; a line of the record is from outside, and no markup."""
    parts = [f"<h3>{html.escape(topic.name)}</h3>", f"<p>{html.escape(topic.what)}</p>"]
    for word, text in (("Unit", topic.unit), ("Example", topic.example)):
        if text:
            parts.append(f"<p><b>{word}:</b> {html.escape(text)}</p>")
    if topic.chapter:
        name = html.escape(topic.chapter, quote=True)
        parts.append(f'<p>In the guide: <a href="guide:{name}">{name}</a></p>')
    return "".join(parts)
