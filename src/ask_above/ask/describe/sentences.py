"""Capabilities in sentences: what one can do, under its headings."""

from __future__ import annotations

from collections.abc import Iterable

from ask_above.decide.compiled import CompiledCharter


def doing(compiled: CompiledCharter, key: str) -> str:
    """Say a capability in an administrator's words: ``change the wording of a post, one's own``."""
    capability = compiled.catalogue.capabilities[key]
    about = capability.about or key
    if about[1:2].islower() or len(about) == 1:
        about = about[:1].lower() + about[1:]
    if capability.pair is None:
        return about
    return f"{about}, one's own" if key.endswith(".own") else f"{about}, anybody's"


def under_headings(compiled: CompiledCharter, keys: Iterable[str]) -> dict[str, list[str]]:
    """Return capabilities under their headings, in the catalogue's order; what is one's own goes without saying.

    Where one may do something to anybody's, the same to one's own is left out.
    """
    wanted = set(keys)
    found: dict[str, list[str]] = {}
    for key, each in compiled.catalogue.capabilities.items():
        covered = each.pair is not None and key.endswith(".own") and f"{each.pair}.all" in wanted
        if key in wanted and not covered:
            found.setdefault(each.heading, []).append(key)
    return found
