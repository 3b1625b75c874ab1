"""Whole sentences as people put them, and the command that each stands for: ``what can dara do in notices``.

A word in capitals stands for a word or several, up to the next word of the sentence; ``...`` for whatever
follows, ``--`` for options alone.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from functools import cache
from typing import Final

from ask_above.charter.rules import ACT_WORDS

_APART: Final = "\x1f"
"""Between the words of a command line, which may hold spaces themselves."""

PHRASES: Final = {
    **{f"who {act}{ending} WHOM ...": f"who {act} WHOM ..." for act in ACT_WORDS for ending in ("s", "es")},
    **{f"who can {act} WHOM ...": f"who {act} WHOM ..." for act in ACT_WORDS},
    "who can see PLACE": "who see PLACE",
    "who can WHAT in PLACE --": "who WHAT --at PLACE --",
    "who can WHAT --": "who WHAT --",
    "who is RANK": "member list --holding RANK",
    "who are RANK": "member list --holding RANK",
    "what can WHO do ...": "tour WHO ...",
    "what may WHO do ...": "tour WHO ...",
    "why can WHO not WHAT ...": "may WHO WHAT ...",
    "why may WHO not WHAT ...": "may WHO WHAT ...",
    "why can't WHO WHAT ...": "may WHO WHAT ...",
    "why cannot WHO WHAT ...": "may WHO WHAT ...",
    "can WHO WHAT ...": "may WHO WHAT ...",
    "unassign all WHO --": "unassign * WHO --",
    "rank up RANK --": "rank move RANK --up --",
    "rank down RANK --": "rank move RANK --down --",
    "rank duplicate RANK ...": "rank copy RANK ...",
    "rank RANK under OTHER --": "rank move RANK --below OTHER --",
    "rank RANK below OTHER --": "rank move RANK --below OTHER --",
    "rank RANK over OTHER --": "rank move RANK --above OTHER --",
    "rank RANK above OTHER --": "rank move RANK --above OTHER --",
    "move WHAT into PLACE --": "place move WHAT --into PLACE --",
    "move WHAT to PLACE --": "place move WHAT --into PLACE --",
    "move WHAT above RANK --": "rank move WHAT --above RANK --",
    "move WHAT below RANK --": "rank move WHAT --below RANK --",
    **{f"rank move RANK {spot} --": f"rank move RANK --{spot} --" for spot in ("up", "down", "top", "bottom")},
}
"""For each sentence the command; where two fit, the one that stands first."""


@cache
def _compiled(first: str) -> list[tuple[re.Pattern[str], list[str]]]:
    """Return the sentences that begin with a word, ready to be held against: no command waits for all of them."""
    compiled = []
    for sentence, meant in PHRASES.items():
        *words, last = sentence.split()
        if words[0] != first:
            continue
        parts = [_part(word, sentence.split()) for word in words]
        ends = {"...": rf"(?P<rest>(?:{_APART}.*)?)", "--": rf"(?P<rest>(?:{_APART}-.*)?)"}
        end = ends.get(last) or _APART + _part(last, sentence.split())
        compiled.append((re.compile(_APART.join(parts) + end), meant.split()))
    return compiled


def _part(word: str, sentence: Sequence[str]) -> str:
    """Return the pattern of a word; a name is one word where another name or the rest of it all comes next."""
    if not word.isupper():
        return re.escape(word)
    after = sentence[sentence.index(word) + 1 :]
    several = not after or after[0].islower() or after[0] == "--"
    return rf"(?P<{word}>(?!-)[^{_APART}]+{f'(?:{_APART}(?!-)[^{_APART}]+)*?' if several else ''})"


def in_command(args: Sequence[str]) -> list[str]:
    """Return the command that a sentence stands for; what is none comes back as it is."""
    said = _APART.join(args)
    for pattern, meant in _compiled(args[0]) if args else ():
        match = pattern.fullmatch(said)
        if match is None or _is_a_command(match, args):
            continue
        words: list[str] = []
        for word in meant:
            if word in ("...", "--"):
                words += match["rest"].split(_APART)[1:]
            else:
                words.append(match[word].replace(_APART, " ") if word.isupper() else word)
        return words
    return list(args)


def _is_a_command(match: re.Match[str], args: Sequence[str]) -> bool:
    """Whether a rank's place in the sentence is a command of its own: ``rank add helper above host``."""
    if "RANK" not in match.re.groupindex or match.start("RANK") != len(args[0]) + 1:
        return False
    from ask_above.cli.rank import command

    return args[1] in command.commands
