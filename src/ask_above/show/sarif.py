"""Findings as SARIF 2.1.0 (OASIS), for the places where a change to the files is looked at."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from hashlib import sha256
from typing import Any, Final
from urllib.parse import quote

from ask_above.show.findings import Finding, titled
from ask_above.version import __version__

_SCHEMA: Final = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"
_ROOT: Final = "%SRCROOT%"
"""The base of every address: the root of whoever's folder it is, which is not named here."""


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
