"""What the package promises from outside: its names, its examples, its documents."""

from __future__ import annotations

import contextlib
import doctest
import gc
import re
import shutil
import subprocess
import sys
from concurrent.futures import ThreadPoolExecutor
from importlib import import_module
from pathlib import Path

import pytest
import yaml

import ask_above
from ask_above import Community, FaultyFilesError
from conftest import DEMO

ROOT = Path(__file__).parent.parent
DOCS = ROOT / "docs"

PUBLIC = [
    "VISITOR", "Answer", "AskAboveError", "Assignment", "ChangedMeanwhileError", "Charter", "Community", "EditError",
    "Expectation", "Fault", "FaultyFilesError", "Looks", "Member", "MissingFileError", "MomentError", "PerkHeld",
    "Place", "QuestionError", "Rank", "RefusedError", "Register", "Step", "UnknownNameError", "Unmet",
]  # fmt: skip


def test_the_public_names_are_these_and_all_there() -> None:
    assert set(PUBLIC) <= set(ask_above.__all__)
    for name in PUBLIC:
        assert getattr(ask_above, name) is not None
    with pytest.raises(AttributeError):
        _ = ask_above.no_such_name  # type: ignore[attr-defined]


def test_every_error_is_an_ask_above_error_and_a_fitting_builtin() -> None:
    for name, builtin in (
        ("FaultyFilesError", ValueError),
        ("MissingFileError", FileNotFoundError),
        ("UnknownNameError", LookupError),
        ("QuestionError", ValueError),
        ("MomentError", ValueError),
        ("EditError", ValueError),
        ("RefusedError", PermissionError),
        ("ChangedMeanwhileError", RuntimeError),
    ):
        error = getattr(ask_above, name)
        assert issubclass(error, ask_above.AskAboveError)
        assert issubclass(error, builtin)


def with_examples() -> list[str]:
    """Name every module that has an example in a docstring."""
    home = Path(ask_above.__file__).parent
    found = [file.relative_to(home) for file in home.rglob("*.py") if ">>> " in file.read_text("utf-8")]
    return sorted(".".join(("ask_above", *file.with_suffix("").parts)).removesuffix(".__init__") for file in found)


@pytest.mark.parametrize("module", with_examples())
def test_the_examples_in_docstrings_are_right(module: str) -> None:
    flags = doctest.ELLIPSIS | doctest.NORMALIZE_WHITESPACE
    known = {"Community": ask_above.Community}
    result = doctest.testmod(import_module(module), optionflags=flags, extraglobs=known)
    assert result.failed == 0
    assert result.attempted > 0


def test_importing_the_package_loads_nothing_heavy() -> None:
    heavy = ("pandas", "numpy", "rich")
    code = f"import sys, ask_above.cli.may; print(*(m for m in {heavy} if m in sys.modules))"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.strip() == ""


def test_every_rule_that_code_or_tests_cite_is_in_the_rules() -> None:
    known = set(re.findall(r"^- \*\*(\d\.\d+[a-e]?)\*\*", (DOCS / "rules.md").read_text("utf-8"), re.MULTILINE))
    cited: set[str] = set()
    for file in [*(ROOT / "tests").glob("*.py"), *Path(ask_above.__file__).parent.rglob("*.py")]:
        text = file.read_text("utf-8")
        cited |= set(re.findall(r'"([1-8]\.\d+[a-d]?)", "[a-z-]+"', text))
        cited |= set(re.findall(r'Refusal\(\s*"(\d\.\d+[a-e]?)"', text))
        for group in re.findall(r"\(rules? ((?:\d\.\d+[a-e]?(?:, | and | to )?)+)\)", text):
            cited |= set(re.findall(r"\d\.\d+[a-e]?", group))
    assert len(cited) > 30
    assert cited <= known, sorted(cited - known)


def test_the_charters_in_the_documents_can_be_read() -> None:
    found = 0
    for page in [ROOT / "README.md", *DOCS.glob("*.md")]:
        for block in re.findall(r"```yaml\n(.*?)```", page.read_text("utf-8"), re.DOTALL):
            data = yaml.load(block, Loader=yaml.BaseLoader)  # noqa: S506 (every scalar as text)
            if isinstance(data, dict) and {"charter", "ranks"} <= data.keys():
                ask_above.Community.from_texts({"charter.yaml": block})
                found += 1
    assert found


def test_every_code_of_advice_is_explained() -> None:
    from ask_above.ask.advice.piece import WHY

    page = (DOCS / "advice.md").read_text("utf-8")
    for code, why in WHY.items():
        assert f"| `{code}` | {why} |" in page


def test_the_garbage_collector_is_left_as_it_was_whatever_is_read_at_once(tmp_path: Path) -> None:
    shutil.copytree(DEMO, tmp_path / "river")
    (tmp_path / "faulty").mkdir()
    (tmp_path / "faulty" / "charter.yaml").write_text("charter: 1\nranks: 2\n")

    def read(folder: str) -> None:
        with contextlib.suppress(FaultyFilesError):
            Community.open(tmp_path / folder)

    try:
        for is_on in (False, True):
            (gc.enable if is_on else gc.disable)()
            with ThreadPoolExecutor(8) as several:
                list(several.map(read, ["river", "faulty"] * 8))
            assert gc.isenabled() is is_on
    finally:
        gc.enable()
