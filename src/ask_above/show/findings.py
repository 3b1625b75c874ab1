"""What a check or an impact found, as one list for the programs that read such lists, as SARIF too."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Sequence
from enum import StrEnum
from hashlib import sha256
from typing import Any, Final, NamedTuple
from urllib.parse import quote

from ask_above.ask.advice.piece import WHY, Piece
from ask_above.ask.expect import Unmet
from ask_above.ask.impact.whole import Impact, Shift, TurnedExpectation
from ask_above.charter.names import listed, upper
from ask_above.charter.where import NOWHERE, Where
from ask_above.decide.decider import VISITOR
from ask_above.decide.words import day
from ask_above.errors import Fault
from ask_above.show.impact import shift_in_words
from ask_above.version import __version__

_IN_FILE = re.compile(r"\((?P<file>.+) line (?P<line>\d+)\)")
RULES: dict[str, str] = {
    "unmet": "An expectation of the charter is not met.",
    "unmet-later": "An expectation is met now, and will not be from a day on.",
    "gained": "Somebody gains a capability.",
    "lost": "Somebody loses a capability.",
    "gained-high-risk": "Somebody gains a high-risk capability.",
    "turned": "An expectation that was met is no longer met.",
    **WHY,
}
"""What each code means; a fault of the files says it itself."""
_SCHEMA: Final = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"
_ROOT: Final = "%SRCROOT%"
"""The base of every address: the root of whoever's folder it is, which is not named here."""


class Level(StrEnum):
    """How grave a finding is, in the words of SARIF."""

    ERROR = "error"
    WARNING = "warning"
    NOTE = "note"


class Finding(NamedTuple):
    """One thing that was found: of which kind, how grave, what, where, and what it is known again by.

    ``same`` is what stays the same where lines above it come or go.
    """

    code: str
    level: Level
    what: str
    where: Where
    mend: str = ""
    same: str = ""
    concerned: tuple[str, ...] = ()


def of_faults(faults: Iterable[Fault]) -> list[Finding]:
    """Return what is wrong in the files; each is known again by its line's text, wherever that stands."""
    findings = []
    for fault in faults:
        what = f"{upper(fault.message)}."
        near = f"Nearest: {listed(fault.nearest, 'or')}." if fault.nearest else ""
        mend = " ".join(each for each in (f"Expected: {fault.expected}." if fault.expected else "", near) if each)
        where = Where(fault.file, fault.line, fault.column)
        findings.append(Finding(fault.code, Level.ERROR, what, where, mend, f"{fault.path}|{fault.source.strip()}"))
    return findings


def of_check(unmet: Iterable[Unmet], later: Iterable[tuple[str, Unmet]], pieces: Iterable[Piece]) -> list[Finding]:
    """Return what a check found, the gravest first."""
    findings = [
        Finding("unmet", Level.ERROR, f"{e.expectation.text}: {e.because}", e.expectation.where, "", e.expectation.text)
        for e in unmet
    ]
    findings += [
        Finding(
            "unmet-later",
            Level.WARNING,
            f"{e.expectation.text}: not met from {day(since)}. {e.because}",
            e.expectation.where,
            "",
            e.expectation.text,
        )
        for since, e in later
    ]
    return findings + [
        Finding(e.code, Level.NOTE, f"{upper(e.what)}.", e.where, f"{upper(e.mend)}.", e.what, e.concerned)
        for e in pieces
    ]


def of_impact(impact: Impact) -> list[Finding]:
    """Return what differs: gains of high risk are errors, other gains warnings, losses notes."""
    findings = []
    for shift in impact.shifts:
        risky = shift.gains and shift.risk == "high"
        level = Level.ERROR if risky else Level.WARNING if shift.gains else Level.NOTE
        code = "gained-high-risk" if risky else "gained" if shift.gains else "lost"
        what = ", ".join(shift_in_words(impact, shift))
        findings.append(Finding(code, level, f"{what}.", _spot(impact, shift), "", what))
    for turned in impact.turned:
        if not turned.holds:
            said, where = _turned(turned), turned.unmet.expectation.where
            findings.append(Finding("turned", Level.ERROR, said, where, "", turned.text))
    return sorted(findings, key=lambda finding: (*Level,).index(finding.level))


def _turned(each: TurnedExpectation) -> str:
    return f"{each.text}: {each.unmet.because}"


def _spot(impact: Impact, shift: Shift) -> Where:
    """Return the line of the new files that the first answer of a shift rests on; the charter where none does."""
    charter = impact.new.compiled.charter
    whole = next((Where(rank.where.file, 1, 1) for rank in charter.ranks.values() if rank.where.file), NOWHERE)
    who = next(iter([*shift.members, *(f"rank:{key}" for key in shift.ranks)]), VISITOR)
    at = shift.since or impact.at
    new = impact.new
    known = who == VISITOR or who.removeprefix("rank:") in {**new.people.register.members, **charter.ranks}
    place = shift.places[0]
    if not known or place not in charter.places or shift.capabilities[0] not in new.compiled.catalogue.bit:
        return whole
    steps = new.account_of(who, shift.capabilities[0], place, at).steps
    for step in reversed(steps):
        spot = _IN_FILE.search(str(step.words.get("file", "")))
        if spot:
            return Where(spot["file"], int(spot["line"]), 1)
    return whole


def titled(rules: Sequence[str]) -> list[tuple[str, str]]:
    """Return each code with what it means; a fault of the files has no more than its code."""
    return [(code, RULES.get(code, f"The files have faults: {code}.")) for code in rules]


def sarif(findings: Sequence[Finding], *, below: str = "", status: int = 0) -> dict[str, Any]:
    """Return findings as a SARIF log of one run.

    ``below`` is the way from the root to the community's folder, with ``/``: addresses are relative, so that a log says
    nothing of the machine that it was made on. Columns count characters. A finding keeps its fingerprint where lines
    above it come and go; of two alike each has its own. ``status`` is the exit status of the command.
    """
    codes = list(dict.fromkeys(finding.code for finding in findings))
    seen: Counter[tuple[str, str]] = Counter()
    results = []
    for finding in findings:
        seen[finding.code, finding.same] += 1
        results.append(_result(finding, codes.index(finding.code), below, seen[finding.code, finding.same]))
    return {
        "$schema": _SCHEMA,
        "version": "2.1.0",
        "runs": [
            {
                "tool": {"driver": _driver(codes, findings)},
                "invocations": [{"executionSuccessful": True, "exitCode": status}],
                "columnKind": "unicodeCodePoints",
                "results": results,
            }
        ],
    }


def _driver(codes: Sequence[str], findings: Sequence[Finding]) -> dict[str, Any]:
    level = {finding.code: finding.level for finding in reversed(findings)}
    return {
        "name": "Ask Above",
        "version": __version__,
        "semanticVersion": __version__,
        "rules": [
            {
                "id": code,
                "shortDescription": {"text": said},
                "help": {"text": f"{said} What it is about, and what mends it, stands in docs/advice.md."},
                "defaultConfiguration": {"level": str(level[code])},
            }
            for code, said in titled(codes)
        ],
    }


def _result(finding: Finding, rule: int, below: str, nth: int) -> dict[str, Any]:
    text = f"{finding.what} {finding.mend}".strip()
    mark = sha256("\0".join((finding.code, finding.same, str(nth))).encode()).hexdigest()[:32]
    result: dict[str, Any] = {
        "ruleId": finding.code,
        "ruleIndex": rule,
        "level": str(finding.level),
        "message": {"text": text},
        "partialFingerprints": {"askAboveFinding/v1": mark},
    }
    where = finding.where
    if where.file:
        way = "/".join(part for part in (below.strip("/"), where.file) if part)
        physical: dict[str, Any] = {"artifactLocation": {"uri": quote(way), "uriBaseId": _ROOT}}
        if where.line:
            physical["region"] = {"startLine": where.line, "startColumn": max(1, where.column)}
        result["locations"] = [{"physicalLocation": physical}]
    return result
