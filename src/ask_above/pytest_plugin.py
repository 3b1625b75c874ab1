"""Expectations as tests: ``pytest --charter DIR``. Nothing else is imported until a charter is named."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pytest

if TYPE_CHECKING:
    from ask_above.ask.expect import Unmet
    from ask_above.charter.expectations import Expectation
    from ask_above.community import Community

_ENDINGS = (".yaml", ".yml")


def pytest_addoption(parser: pytest.Parser) -> None:
    """Add ``--charter`` and ``--charter-against``."""
    group = parser.getgroup("charter", "what a community's charter expects")
    group.addoption(
        "--charter",
        action="append",
        default=[],
        metavar="DIR",
        help="Each expectation of this community's charter is a test. Alone, these are all the tests that run; "
        "after files or folders of tests they run too.",
    )
    group.addoption(
        "--charter-against",
        metavar="STATE",
        help="Also a test: nobody gains a high-risk capability since then. A folder, a number of the journal, or "
        "git:REVISION.",
    )


def pytest_configure(config: pytest.Config) -> None:
    """Look at the charters; at other tests only where they are named."""
    charters = config.getoption("--charter")
    if not charters:
        if config.getoption("--charter-against"):
            raise pytest.UsageError("--charter-against goes with --charter DIR.")
        return
    files = [_charter(said) for said in charters]
    config.stash[_FILES] = {file.resolve() for file in files}
    named = config.args if config.args_source is config.ArgsSource.ARGS else []
    config.args = [*named, *(str(file) for file in files)]


_FILES = pytest.StashKey[set[Path]]()


def _charter(said: str) -> Path:
    from ask_above.errors import MissingFileError
    from ask_above.files.writing import located

    try:
        folder, name = located(said)
    except MissingFileError as error:
        raise pytest.UsageError(f"--charter {said}: {error}") from None
    return folder / name


def pytest_collect_file(file_path: Path, parent: pytest.Collector) -> pytest.Collector | None:
    """Take the charters that were named."""
    if file_path.suffix in _ENDINGS and file_path.resolve() in parent.config.stash.get(_FILES, set()):
        return CharterFile.from_parent(parent, path=file_path)
    return None


class CharterFile(pytest.File):
    """A charter: each of its expectations is a test."""

    def collect(self) -> Iterator[pytest.Item]:
        """Read the community and list its expectations; two that say the same are told apart by a number."""
        from ask_above.community import Community

        community = Community.open(self.path)
        failed = {unmet.expectation: unmet for unmet in community.unmet()}
        seen: Counter[str] = Counter()
        for expectation in community.charter.expectations:
            seen[expectation.text] += 1
            name = expectation.text if seen[expectation.text] == 1 else f"{expectation.text} #{seen[expectation.text]}"
            yield Expected.from_parent(self, name=name, expectation=expectation, unmet=failed.get(expectation))
        state = self.config.getoption("--charter-against")
        if state:
            yield NothingRisky.from_parent(
                self, name=f"nobody gains a high-risk capability since {state}", community=community, state=state
            )

    def repr_failure(self, excinfo: pytest.ExceptionInfo[BaseException], style: Any = None) -> Any:
        """Say what is wrong in the files, without a traceback."""
        from ask_above.errors import AskAboveError

        return str(excinfo.value) if isinstance(excinfo.value, AskAboveError) else super().repr_failure(excinfo)


class _Broken(Exception):  # noqa: N818 (it is no error: it carries what the test says)
    """What a test says where it does not hold."""


class _Item(pytest.Item):
    line = 0

    def reportinfo(self) -> tuple[Path, int, str]:
        """Say where it stands in the charter."""
        return self.path, max(0, self.line - 1), self.name

    def repr_failure(self, excinfo: pytest.ExceptionInfo[BaseException], style: Any = None) -> Any:
        """Say what does not hold, with the whole way to it."""
        from ask_above.errors import AskAboveError

        if isinstance(excinfo.value, (_Broken, AskAboveError)):
            return str(excinfo.value)
        return super().repr_failure(excinfo)


class Expected(_Item):
    """An expectation: it holds."""

    def __init__(self, *, expectation: Expectation, unmet: Unmet | None, **rest: Any) -> None:
        super().__init__(**rest)
        self.unmet, self.line = unmet, expectation.where.line

    def runtest(self) -> None:
        """Fail with the explained answers where it does not hold."""
        if self.unmet is not None:
            raise _Broken(str(self.unmet))


class NothingRisky(_Item):
    """Nobody gains a high-risk capability since an earlier state."""

    def __init__(self, *, community: Community, state: str, **rest: Any) -> None:
        super().__init__(**rest)
        self.community, self.state = community, state

    def runtest(self) -> None:
        """Fail with the whole difference where somebody does."""
        from ask_above.community import Community

        before = Community.open(self.state) if Path(self.state).exists() else self.community.as_of(self.state)
        impact = before.impact(self.community)
        if impact.risky:
            raise _Broken(str(impact))
