"""Text that others wrote, shown so that it can be read as nothing but text.

What would move a cursor, turn the direction of reading or begin a line of its own is written out: ``\\x1b``,
``\\u202e``, ``\\n``. Markup of Markdown is written out too, where that is what it is shown in.
"""

from __future__ import annotations

import re
from unicodedata import category

_ODD = (
    r"\x00-\x08\x0b-\x1f\x7f-\x9f\u061c\u200e\u200f\u2028\u2029\u202a-\u202e\u2066-\u2069"
    r"\ud800-\udfff\ufdd0-\ufdef\ufffe\uffff"
)
"""Control characters, what breaks a line or turns the direction of reading, and what is no character."""

_HIDDEN = re.compile(rf"[{_ODD}\t\n]")
_BUT_BREAKS = re.compile(f"[{_ODD}]")
_NAMED = {"\n": "\\n", "\r": "\\r", "\t": "\\t"}
_MARKUP = r"[\\`*_\[\]<>|~]|://|\bwww\.|^(?=[#+-]|\d+[.)])"
_AS_TEXT = {"<": "&lt;", ">": "&gt;", "[": "&#91;", "]": "&#93;", "://": ":\\//", "www.": "www\\."}
_TWIN = "[\u00ad\u180e\u200b-\u200d\u2060-\u2064\ufeff]"


_IGNORED = (
    "[\u00ad\u034f\u061c\u115f\u1160\u17b4\u17b5\u180b-\u180f\u200b-\u200f\u2028-\u202e\u2060-\u206f\u2800\u3164"
    "\ufe00-\ufe0f\ufeff\uffa0\ufff0-\ufffb\U000e0000-\U000e0fff]"
)
"""What nothing is shown for, fillers and blanks that count as letters included."""
_JOINERS, _EMOJI = "\u200c\u200d", "\ufe0e\ufe0f\u200d"


def is_plain(text: str) -> bool:
    """Whether a text, or several together, is nothing but signs that anybody reads: nearly all that is written."""
    return text.isascii() and text.isprintable()


def has_unseen(text: str, *, badge: bool = False) -> bool:
    """Whether a name holds a character that cannot be seen.

    Joiners may stand between letters, as some scripts need them; in a badge also what emoji are put together with.

    >>> [has_unseen(name) for name in ("Boss", "Bo\\u200bss", "\\u0646\\u200c\\u0646")]
    [False, True, False]
    """
    if is_plain(text):
        return False
    for n, sign in enumerate(text):
        kind = category(sign)
        if sign.isascii() and kind != "Cc":
            continue
        if badge and sign in _EMOJI:
            continue
        if sign in _JOINERS and 0 < n < len(text) - 1 and all(category(text[m])[0] in "LM" for m in (n - 1, n + 1)):
            continue
        if kind in ("Cc", "Cf", "Cs", "Co", "Cn", "Zl", "Zp") or re.match(_IGNORED, sign):
            return True
    return False


def visible(text: str, *, breaks: bool = False) -> str:
    """Return a text as it may be shown; ``breaks``: with its line breaks.

    >>> visible("Ri\\x1b[2Jver\\n"), visible("one\\ntwo", breaks=True)
    ('Ri\\\\x1b[2Jver\\\\n', 'one\\ntwo')
    """
    return (_BUT_BREAKS if breaks else _HIDDEN).sub(_written_out, text)


def _written_out(match: re.Match[str]) -> str:
    sign = match.group()
    number = ord(sign)
    return _NAMED.get(sign) or (f"\\x{number:02x}" if number < 0x100 else f"\\u{number:04x}")  # noqa: PLR2004


def escaped(text: str) -> str:
    """Return JSON in which what is no plain text is written as JSON writes it; it says the same.

    >>> print(escaped('"a\\u202eb"'))
    "a\\u202eb"
    """
    return _BUT_BREAKS.sub(lambda match: f"\\u{ord(match.group()):04x}", text)


def in_markdown(text: str) -> str:
    """Return a text that Markdown shows as it is: no link, no picture, no tag, no heading.

    >>> in_markdown("[x](javascript:y) <b>")
    '&#91;x&#93;(javascript:y) &lt;b&gt;'
    """
    return re.sub(_MARKUP, _as_text, visible(text), flags=re.MULTILINE)


def _as_text(match: re.Match[str]) -> str:
    sign = match.group()
    return _AS_TEXT.get(sign) or f"\\{sign}"


def without_hidden(text: str) -> str:
    """Return a text without what has no width, so that two that look alike are alike."""
    return re.sub(_TWIN, "", text)
