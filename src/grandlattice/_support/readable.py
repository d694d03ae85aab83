"""How numbers and times are said, wherever an artist reads them."""

from __future__ import annotations

import re
from base64 import b64encode
from collections.abc import Iterable, Sequence
from contextlib import suppress
from html import escape
from pathlib import Path

_UNSHOWN = re.compile(
    "[\x00-\x08\x0b-\x1f\x7f-\x9f\u200e\u200f\u2028-\u202e\u2066-\u2069\ud800-\udfff\ufeff]"
)


def cleaned(text: str) -> str:
    """A text from a scene, a plan or another program without what would steer the terminal it is shown in.

    Control characters, marks that turn the direction of writing, and halves of letters each become
    one replacement character; new lines and tabs stay.

    >>> cleaned("a\x1b[2Jb")
    'a\ufffd[2Jb'
    """
    return _UNSHOWN.sub("\ufffd", text)


def duration(seconds: float) -> str:
    """A readable time: ``0.4 s``, ``48 s``, ``3 min 20 s``, ``1 h 12 min``."""
    if seconds < 10:
        return f"{seconds:.1f} s"
    whole = round(seconds)
    if whole < 60:
        return f"{whole} s"
    if whole < 3600:
        return f"{whole // 60} min {whole % 60} s"
    return f"{whole // 3600} h {whole % 3600 // 60} min"


def size(count: float) -> str:
    """A readable amount of bytes: ``3.2 MB``."""
    for unit in ("B", "kB", "MB", "GB"):
        if count < 1000:
            return f"{count:.0f} {unit}" if unit == "B" else f"{count:.1f} {unit}"
        count /= 1000
    return f"{count:.1f} TB"


def number(value: float, digits: int = 4) -> str:
    """A number to some digits, without powers of ten up to ten million: lights are that bright.

    >>> number(16000.0), number(0.36603), number(1234567.0, 3)
    ('16000', '0.366', '1230000')
    """
    short = float(f"{value:.{digits}g}")
    return f"{short:.0f}" if 1000.0 <= abs(short) < 1e7 else f"{value:.{digits}g}"


def html_table(titles: Sequence[str], rows: Iterable[Sequence[str]], caption: str = "") -> str:
    """A table for notebooks; every text is escaped.

    >>> html_table(["cell"], [["noon <1>"]])
    '<table><tr><th>cell</th></tr><tr><td>noon &lt;1&gt;</td></tr></table>'
    """
    told = f"<caption>{escape(caption)}</caption>" if caption else ""
    head = "".join(f"<th>{escape(title)}</th>" for title in titles)
    body = "".join(f"<tr>{''.join(f'<td>{escape(text)}</td>' for text in row)}</tr>" for row in rows)
    return f"<table>{told}<tr>{head}</tr>{body}</table>"


def html_pictures(title: str, pictures: Iterable[tuple[str, Path]], width: int = 200) -> str:
    """Pictures of files in rows, labelled, for notebooks; those that are gone are left out."""
    shown = []
    for label, file in pictures:
        with suppress(OSError):
            kind = "jpeg" if file.suffix in (".jpg", ".jpeg") else file.suffix.lstrip(".")
            data = b64encode(file.read_bytes()).decode()
            shown.append(
                f'<figure style="display:inline-block;margin:4px"><img width="{width}" '
                f'src="data:image/{kind};base64,{data}"><figcaption>{escape(label)}</figcaption></figure>'
            )
    return f"<p>{escape(title)}</p>{''.join(shown)}"


def price(amount: float, currency: str = "") -> str:
    """An amount of money: ``1.20 EUR``.

    >>> price(1.2, "EUR"), price(0.004)
    ('1.20 EUR', '0.004')
    """
    return (
        f"{amount:.2f} {currency}".strip()
        if amount >= 0.1 or not amount
        else f"{amount:.2g} {currency}".strip()
    )


def many(count: int, one: str, more: str | None = None) -> str:
    """``1 cell``, ``27 cells``."""
    plural = more or one + ("es" if one.endswith(("s", "x", "ch", "sh")) else "s")
    return f"{count:,} {one if count == 1 else plural}"
