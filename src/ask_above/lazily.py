"""Names that are imported when they are first used, so that a question costs no more than it needs."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from importlib import import_module


def lazily(package: str, names: Mapping[str, tuple[str, ...]]) -> Callable[[str], object]:
    """Return ``__getattr__`` for a package; ``names`` says which of its modules has which names."""
    where = {name: module for module, said in names.items() for name in said}

    def get(name: str) -> object:
        if name not in where:
            raise AttributeError(f"module '{package}' has no attribute '{name}'")
        module = import_module(package)
        value = vars(module)[name] = getattr(import_module(f"{package}.{where[name]}"), name)
        return value

    return get
