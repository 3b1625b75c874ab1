"""Capabilities in sentences: what one can do, under its headings."""

from __future__ import annotations

from collections.abc import Iterable

from ask_above.decide.compiled import CompiledCharter


def doing(compiled: CompiledCharter, key: str) -> str:
    """Say what a capability permits: ``edit own posts``; its key where it has no sentence."""
    capability = compiled.catalogue.capabilities[key]
    about = capability.about or key
    if about[1:2].islower() or len(about) == 1:
        about = about[:1].lower() + about[1:]
    return about


def under_headings(compiled: CompiledCharter, keys: Iterable[str]) -> dict[str, list[str]]:
    """Return capabilities under their headings, in the catalogue's order; own things are not named apart.

    Where it is anybody's, the same for own things is left out.
    """
    wanted = set(keys)
    headed: dict[str, list[str]] = {}
    for key, each in compiled.catalogue.capabilities.items():
        covered = each.pair is not None and key.endswith(".own") and f"{each.pair}.all" in wanted
        if key in wanted and not covered:
            headed.setdefault(each.heading, []).append(key)
    return headed
