"""What a locked source asks for: a password, or a one-time code."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtGui import QCloseEvent
from PySide6.QtWidgets import QCheckBox, QDialog, QLineEdit, QWidget

from needlewright.app.theme.look import look
from needlewright.app.widgets.small import button, column, fill, label, line
from needlewright.core.secrets import PASSWORD
from needlewright.core.sources.registry import short_name
from needlewright.wording import shelves as words


class SecretDialog(QDialog):
    """Asks once; `answer` is called once, with None where a person has none."""

    def __init__(self, spec: str, what: str, wrong: bool,
                 answer: Callable[[str | None, bool], None], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("secretDialog")
        self._answer: Callable[[str | None, bool], None] | None = answer
        name = short_name(spec)
        is_password = what == PASSWORD
        self.setWindowTitle(words.SECRET_TITLE.format(name=name))
        self.text = QLineEdit()
        self.text.setObjectName("secretText")
        if is_password:
            self.text.setEchoMode(QLineEdit.EchoMode.Password)
        else:
            self.text.setFont(look.font(20))
            self.text.setMaxLength(12)
        self.text.setPlaceholderText(words.SECRET_PASSWORD if is_password else words.SECRET_CODE)
        self.keep = QCheckBox(words.SECRET_KEEP)
        self.keep.setObjectName("secretKeep")
        self.wrong = label(words.SECRET_WRONG if is_password else words.SECRET_CODE_WRONG,
                           "problem", "secretWrong", wrap=True)
        head = words.SECRET_HEAD if is_password else words.SECRET_CODE_HEAD
        text = words.SECRET_TEXT if is_password else words.SECRET_CODE_TEXT
        self.open_it = button(words.SECRET_OPEN, "secretOpen", self._given, "main")
        self.open_it.setDefault(True)
        self.open_it.setEnabled(False)
        not_now = button(words.SECRET_NOT_NOW, "secretNotNow", self.reject, "link")
        not_now.setAutoDefault(False)
        self.text.textChanged.connect(lambda text: self.open_it.setEnabled(bool(text)))
        fill(column(self, (24, 20, 24, 20)), label(head.format(name=name), "head", wrap=True),
             self.wrong, 4, self.text, self.keep, label(text, "muted", wrap=True), 8,
             line(None, not_now, self.open_it, spacing=12))
        # Not before they stand in here: what has no place yet would be shown as a window.
        self.keep.setVisible(is_password)
        self.wrong.setVisible(wrong)
        self.setMinimumWidth(look.px(440))
        self.finished.connect(lambda _: self._tell(None, False))
        self.text.setFocus()

    def closeEvent(self, event: QCloseEvent) -> None:
        self._tell(None, False)
        super().closeEvent(event)

    def _given(self) -> None:
        given = self.text.text()
        if self.text.echoMode() is QLineEdit.EchoMode.Normal:
            given = "".join(given.split())  # codes are shown in two halves
        self._tell(given, self.keep.isChecked())
        self.text.clear()
        self.accept()

    def _tell(self, secret: str | None, keep: bool) -> None:
        answer, self._answer = self._answer, None
        if answer is not None:
            answer(secret, keep)
