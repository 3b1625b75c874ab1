"""What several test files share: the databases that hold a register."""

from __future__ import annotations

import gc
import shutil
import sys
from collections.abc import Iterator
from itertools import count
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

import pytest

import ask_above
from ask_above import Community
from ask_above.workspace.home import Home
from databases import fresh_database, programs, server

if TYPE_CHECKING:
    from selenium.webdriver import Chrome

pytest_plugins = ["pytester"]
sys.path.append(str(Path(__file__).parent.parent))  # what soak/ runs for hours runs small here
DEMO = Path(ask_above.__file__).parent / "demo" / "wren-valley"
_NUMBER = count()
_QUIET = ("--no-first-run", "--disable-background-networking", "--disable-component-update", "--disable-sync")


def pytest_collection_finish() -> None:
    """Collect seldom: the modules of thousands of tests are gone through each time."""
    gc.collect()
    gc.freeze()
    gc.set_threshold(50_000, 20, 20)


class Place(NamedTuple):
    """A copy of the demo, and the URL of its register's database, ``None`` for the file in the folder."""

    folder: Path
    url: str | None

    def open(self) -> Community:
        return Community.open(self.folder, register=self.url)

    def open_home(self) -> Home:
        """What changes are made in, also where the files cannot be read as they stand."""
        return Home(self.folder, "charter.yaml", self.url)

    @property
    def charter(self) -> str:
        return (self.folder / "charter.yaml").read_bytes().decode("utf-8")


def assert_files_say_the_same(folder: Path, community: Community) -> None:
    """The folder's files alone, as if there had never been a database, are this community."""
    texts = {file.name: file.read_text("utf-8") for file in folder.glob("*.yaml")}
    texts |= {file.name: file.read_text("utf-8") for file in folder.glob("*s.csv") if file.stem != "signins"}
    alone = Community.from_texts(texts)

    def said(c: Community) -> tuple[list[str], list[str]]:
        people = [sorted(each._replace(where=None)._asdict().items()) for each in c.register.members.values()]  # type: ignore[arg-type]
        given = [(each[:6], each.source) for each in c.register.assignments]
        return sorted(map(str, people)), sorted(map(str, given))

    assert said(alone) == said(community)
    assert alone.charter.ranks.keys() == community.charter.ranks.keys()
    assert alone.charter.places.keys() == community.charter.places.keys()


@pytest.fixture(scope="session")
def postgresql() -> Iterator[str]:
    if programs() is None:
        pytest.skip("PostgreSQL is not installed; .ci/run installs it")
    with server() as url:
        yield url


@pytest.fixture(params=["sqlite", "postgresql"])
def river(request: pytest.FixtureRequest, tmp_path: Path) -> Place:
    """The demo in a folder of its own, with its register in a file or in PostgreSQL."""
    folder = tmp_path / "river"
    shutil.copytree(DEMO, folder)
    if request.param == "sqlite":
        return Place(folder, None)
    return Place(folder, fresh_database(request.getfixturevalue("postgresql"), f"river{next(_NUMBER)}"))


@pytest.fixture
def brook(tmp_path: Path) -> Place:
    """The demo with its register in a file."""
    folder = tmp_path / "brook"
    shutil.copytree(DEMO, folder)
    return Place(folder, None)


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """What needs a database server is left out of the fast pass."""
    for item in items:
        if "postgresql" in item.name:
            item.add_marker(pytest.mark.slow)


@pytest.fixture(scope="session")
def browser(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Chrome]:
    """A real browser without a screen; what it asks of the network is logged."""
    from selenium import webdriver
    from selenium.webdriver.chrome.service import Service

    chromium, driver = shutil.which("chromium"), shutil.which("chromedriver")
    if chromium is None or driver is None:
        pytest.skip("Chromium is not installed; .ci/run installs it")
    options = webdriver.ChromeOptions()
    options.binary_location = chromium
    profile = tmp_path_factory.mktemp("profile")
    for each in ("--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--window-size=1280,800", *_QUIET):
        options.add_argument(each)
    options.add_argument(f"--user-data-dir={profile}")
    options.set_capability("goog:loggingPrefs", {"browser": "ALL", "performance": "ALL"})
    opened = webdriver.Chrome(options, Service(driver))
    yield opened
    opened.quit()
