"""Cases that hold or do not, as the JUnit XML that test runners write (``xunit2``)."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import NamedTuple
from xml.etree import ElementTree as ET

from ask_above.ask.expect import Unmet
from ask_above.ask.impact.whole import Impact
from ask_above.charter.expectations import Expectation
from ask_above.decide.words import day
from ask_above.errors import Fault
from ask_above.show.findings import Finding, of_impact
from ask_above.visible import visible


class JUnitCase(NamedTuple):
    """One thing that was tried: ``failure`` says in a line why it does not hold, ``told`` the whole of it.

    ``wrong`` is for what could not be tried at all. ``note`` is what one should know where it holds.
    """

    group: str
    name: str
    failure: str = ""
    told: str = ""
    wrong: bool = False
    note: str = ""


def of_expectations(
    expectations: Iterable[Expectation], unmet: Iterable[Unmet], later: Iterable[tuple[str, Unmet]] = ()
) -> list[JUnitCase]:
    """Return a case for each expectation of a charter, in its order; two that say the same are told apart."""
    failed = {each.expectation: each for each in unmet}
    soon = {each.expectation: f"Not met from {day(since)}: {each.because}" for since, each in later}
    cases = []
    for expectation in expectations:
        why = failed.get(expectation)
        group = expectation.where.file or "charter"
        said = (why.because, str(why)) if why else ("", "")
        cases.append(JUnitCase(group, expectation.text, *said, note=soon.get(expectation, "")))
    return cases


def of_faults(faults: Iterable[Fault]) -> list[JUnitCase]:
    """Return what is wrong in the files: nothing could be tried."""
    return [JUnitCase(fault.file, f"line {fault.line}", fault.message, str(fault), wrong=True) for fault in faults]


def of_findings(findings: Iterable[Finding]) -> list[JUnitCase]:
    """Return findings that count as failures."""
    return [
        JUnitCase(finding.where.file or "charter", finding.code, finding.what, f"{finding.what} {finding.mend}")
        for finding in findings
    ]


def of_change(impact: Impact) -> list[JUnitCase]:
    """Return what a change is held to: nobody gains a high-risk capability, and what held holds."""
    risky = [finding.what for finding in of_impact(impact) if finding.code == "gained-high-risk"]
    cases = [JUnitCase("impact", "nobody gains a high-risk capability", risky[0] if risky else "", "\n".join(risky))]
    broken = {each.text: each for each in impact.turned if not each.holds}
    for expectation in impact.new.compiled.charter.expectations:
        turned = broken.get(expectation.text)
        said = (turned.unmet.because, str(turned.unmet)) if turned else ("", "")
        cases.append(JUnitCase("impact", f"still met, or not met before: {expectation.text}", *said))
    return cases


def junit(suite: str, cases: Sequence[JUnitCase], *, at: str, host: str) -> str:
    """Return cases as XML; ``at`` is the moment of the run, in ISO 8601, ``host`` the machine's name."""
    whole = ET.Element("testsuites", name=suite)
    count = {
        "errors": sum(outcome.wrong for outcome in cases),
        "failures": sum(bool(outcome.failure) and not outcome.wrong for outcome in cases),
        "skipped": 0,
        "tests": len(cases),
    }
    attributes = {"name": suite, **{key: str(value) for key, value in count.items()}, "time": "0.000"}
    attributes |= {"timestamp": at, "hostname": host}
    one = ET.SubElement(whole, "testsuite", attributes)
    for outcome in cases:
        case = ET.SubElement(one, "testcase", classname=_plain(outcome.group), name=_plain(outcome.name), time="0.000")
        if outcome.failure:
            kind = "error" if outcome.wrong else "failure"
            ET.SubElement(case, kind, message=_plain(outcome.failure)).text = _plain(outcome.told)
        elif outcome.note:
            ET.SubElement(case, "system-out").text = _plain(outcome.note)
    ET.indent(whole)
    return f'<?xml version="1.0" encoding="utf-8"?>\n{ET.tostring(whole, encoding="unicode")}\n'


def _plain(text: str) -> str:
    """Write out what XML cannot hold."""
    return visible(text, breaks=True)
