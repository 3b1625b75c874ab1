"""Read the rules of a charter (rules 5.4 and 6.2)."""

from __future__ import annotations

from typing import Any

from ask_above.charter.catalogue import Catalogue
from ask_above.charter.names import nearest
from ask_above.charter.reading.context import Items, at, one_capability, read_words
from ask_above.charter.reading.document import Document, Path
from ask_above.charter.rules import USING, Act, ActRule, Advice, Over, Rules


def read_rules(document: Document, data: dict[str, Any], catalogue: Catalogue) -> Rules:
    """Return the rules, with the capabilities that each act takes."""
    acts: dict[Act, ActRule] = {}
    authority = data.get("authority", {})
    for act in USING:
        inside = act in (Act.MODERATE, Act.ASSIGN, Act.MANAGE)
        written = authority.get(act, {}) if inside else data.get(act, {})
        path: Path = ("rules", "authority", act) if inside else ("rules", act)
        acts[act] = ActRule(
            act,
            _using(document, act, written.get("using"), (*path, "using"), catalogue),
            Over(written.get("over", "below")),
            written.get("hand-on", "held"),
            written.get("self", False),
            _written(written.get("using")),
        )
    naming = data.get(Act.ACCOUNTS, {}).get("naming")
    if naming is not None:
        acts[Act.ACCOUNTS] = acts[Act.ACCOUNTS]._replace(
            naming=_moderating(document, naming, ("rules", Act.ACCOUNTS, "naming"), catalogue, acts[Act.MODERATE]),
            # noted with the rest, so that a bundle named here follows when it gets another key
            words=(*acts[Act.ACCOUNTS].words, *_written(naming)),
        )
    advice = data.get("advice", {})
    return Rules(
        timezone=data.get("timezone", "UTC"),
        disagreement=data.get("disagreement", "topmost"),
        seeing=_seeing(document, data.get("seeing"), catalogue),
        acts=acts,
        contacts=_contacts(document, data.get("contacts"), catalogue),
        advice=Advice(advice.get("most-unbounded", 2), advice.get("most-high-risk", 5), dict(advice.get("silent", {}))),
    )


def _using(document: Document, act: Act, said: Any, path: Path, catalogue: Catalogue) -> tuple[str, ...]:
    """Return the capabilities an act takes; none where the catalogue lacks the default (rule 6.2)."""
    if said is None:
        return (USING[act],) if USING[act] in catalogue.bit else ()
    if act != Act.MODERATE:
        name = one_capability(document, said, path, catalogue)
        return (name,) if name else ()
    return _several(document, said, path, catalogue)


def _written(said: Any) -> tuple[str, ...]:
    """Return the words that say what an act takes, as they are written."""
    return () if said is None else (said,) if isinstance(said, str) else tuple(word for _, word in said)


def _several(document: Document, said: Items, path: Path, catalogue: Catalogue) -> tuple[str, ...]:
    words = [read_words(document, [(None, word)], at(path, n), catalogue) for n, word in said]
    mask = catalogue.expand_all(word for some in words for word in some)
    # moderating is done to others, so of a pair the capability for all things counts
    return tuple(key for key in catalogue.names(mask) if not key.endswith(".own"))


def _moderating(
    document: Document, said: Items, path: Path, catalogue: Catalogue, moderate: ActRule
) -> tuple[str, ...]:
    """Return capabilities that have to be among those that moderating takes."""
    named = _several(document, said, path, catalogue)
    for name in named:
        if name not in moderate.using:
            message = f"'{name}' is none of the capabilities that moderating takes here"
            expected = f"one of {', '.join(moderate.using)}" if moderate.using else ""
            document.fault(path, "not-moderating", message, expected=expected)
    return tuple(name for name in named if name in moderate.using)


def _seeing(document: Document, said: str | None, catalogue: Catalogue) -> str | None:
    return None if said is None else one_capability(document, said, ("rules", "seeing"), catalogue)


def _contacts(document: Document, said: str | None, catalogue: Catalogue) -> str | None:
    if said is None or said in catalogue.pairs:
        return said
    path: Path = ("rules", "contacts")
    expected = "the bare name of a capability that is 'authored: true'"
    near = (said.rpartition(".")[0],) if said.rpartition(".")[0] in catalogue.pairs else nearest(said, catalogue.pairs)
    message = f"'{said}' is no pair of own and all"
    document.fault(path, "not-a-pair", message, expected=expected, nearest=near)
    return None
