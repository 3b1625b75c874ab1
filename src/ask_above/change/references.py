"""Where the charter names a rank or a group, and the steps that take it out or name it anew (rule 9.4)."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from ask_above.change.draft import Draft, EditError, NamedByExpectationError, words_at
from ask_above.change.steps import Drop, Path, Put, Rename, Step
from ask_above.charter.expectations import Expectation


def references(data: Any, key: str) -> Iterator[tuple[Path, str]]:
    """Yield where a rank is named, and how: a word in a list, a range, a mapping's key, or a conferred rank."""
    for n, rank in enumerate(data["ranks"]):
        for field in ("builds-on", "after", "apart-from"):
            for k, word in enumerate(rank.get(field) or []):
                if word == key:
                    yield ("ranks", n, field, k), "word"
        if rank.get("copied-from") == key:
            yield ("ranks", n, "copied-from"), "value"
        for field in ("moderates", "assigns", "manages"):
            for way in ("only", "except"):
                for k, word in enumerate((rank.get(field) or {}).get(way) or []):
                    if word == key:
                        yield ("ranks", n, field, way, k), "word"
    for n, group in enumerate(data.get("groups") or []):
        for k, conferred in enumerate(group.get("confers") or []):
            if conferred == key:
                yield ("groups", n, "confers", k), "word"
            elif isinstance(conferred, dict) and conferred.get("rank") == key:
                yield ("groups", n, "confers", k, "rank"), "conferred"
    for name, entries in (data.get("override-sets") or {}).items():
        yield from _keys(entries, ("override-sets", name), key)
    for path, place in every_place(data):
        yield from _keys(place.get("overrides") or {}, (*path, "overrides"), key)
        for way in ("any", "all", "none"):
            for k, word in enumerate((place.get("gate") or {}).get(way) or []):
                if word in (key, f"{key}+"):
                    yield (*path, "gate", way, k), "word"


def _keys(entries: Any, path: Path, key: str) -> Iterator[tuple[Path, str]]:
    for name in entries or {}:
        if name in (key, f"{key}+"):
            yield (*path, name), "key"


def every_place(data: Any) -> Iterator[tuple[Path, Any]]:
    """Yield the path and the plain data of the site, where anything is said of it, and of every place."""
    if data.get("site"):
        yield ("site",), data["site"]
    todo: list[tuple[Path, Any]] = [
        (("places", n), place_data) for n, place_data in enumerate(data.get("places") or [])
    ]
    while todo:
        path, place = todo.pop(0)
        yield path, place
        todo += [((*path, "places", n), place_data) for n, place_data in enumerate(place.get("places") or [])]


def path_of(data: Any, kind: str, key: str) -> Path | None:
    """Return where a rank, a group or a place stands; ``kind`` is the name of the list."""
    if kind == "places":
        return next((path for path, place in every_place(data) if place.get("key") == key), None)
    return next(((kind, n) for n, item in enumerate(data.get(kind) or []) if item.get("key") == key), None)


def without_rank(draft: Draft, key: str) -> list[Step]:
    """Return the steps that take out every reference to a rank, the last first, so that paths stay right."""
    referring = list(references(draft.data, key))
    if any("gate" in path for path, _ in referring):
        raise EditError(
            f"A gate asks for {draft.rank(key).called}; change it first, so that it lets in whom it should."
        )
    ranges = [path for path, how in referring if how == "key" and str(path[-1]).endswith("+")]
    if ranges:
        raise EditError(f"Entries for {key}+ start at this rank; let them start at another rank first.")
    naming = [expectation for expectation in draft.charter.expectations if key in _named_in(expectation)]
    if naming:
        raise NamedByExpectationError(draft.rank(key).called, naming)
    dropped = [path[:-1] if how == "conferred" else path for path, how in referring]
    return [Drop(path) for path in sorted(dropped, key=_deepest_last, reverse=True)]


def _deepest_last(path: Path) -> tuple[Any, ...]:
    return tuple((isinstance(each, str), each if isinstance(each, int) else 0, str(each)) for each in path)


def _named_in(expectation: Expectation) -> set[str]:
    subject = expectation.subject
    ranks = {subject.key} if subject.form in ("rank", "above", "every", "no") else set()
    return ranks | {expectation.target or ""}


def renamed(draft: Draft, key: str, new: str) -> list[Step]:
    """Return the steps that let every reference name a rank by its new key."""
    steps: list[Step] = []
    referring = list(references(draft.data, key))
    for path, how in referring:
        word = str(path[-1]) if how == "key" else str(draft.said(path))
        changed = f"{new}+" if word.endswith("+") else new
        if how == "key":
            steps.append(Rename(path, changed))
        elif how != "word":
            steps.append(Put(path, changed))
    steps += reworded_lists(draft, [path for path, how in referring if how == "word"], key, new)
    for n, text in enumerate(draft.data.get("expectations") or []):
        parsed = draft.charter.expectations[n]
        if key in _named_in(parsed):
            steps.append(Put(("expectations", n), _reworded(text, key, new)))
    return steps


def reworded_lists(draft: Draft, words: Sequence[Path], key: str, new: str) -> list[Step]:
    """Return the steps that let the lists in which a key stands as a word name it by its new key."""
    lists = dict.fromkeys(path[:-1] for path in words)
    return [Put(path, [_reword(each, key, new) for each in words_at(draft, path)]) for path in lists]


def _reword(word: Any, key: str, new: str) -> Any:
    return new if word == key else f"{new}+" if word == f"{key}+" else word


def _reworded(text: str, key: str, new: str) -> str:
    """Return an expectation with a rank's new key; places and acts may be called so too, and stay."""
    words = text.split(" ")
    stays = {n + 1 for n, word in enumerate(words) if word in ("in", "may", "not")}
    return " ".join(word if n in stays else _reword(word, key, new) for n, word in enumerate(words))
