"""The examples in the docs run; pictures and pages that are linked exist."""

from __future__ import annotations

import doctest
import os
import re
from collections.abc import Iterator
from pathlib import Path

import pytest

from nightlatch.demo.build import build
from nightlatch.estate.load import load
from nightlatch.report import catalogue

ROOT = Path(__file__).parent.parent
PAGES = ("docs/library.md", "docs/architecture.md")


@pytest.fixture
def skerry(tmp_path: Path) -> Iterator[Path]:
    build(tmp_path / "skerry")
    before = Path.cwd()
    os.chdir(tmp_path / "skerry")
    yield tmp_path / "skerry"
    os.chdir(before)


@pytest.mark.parametrize("page", PAGES)
def test_examples_run(skerry: Path, page: str) -> None:
    result = doctest.testfile(str(ROOT / page), module_relative=False, optionflags=doctest.ELLIPSIS)
    assert result.attempted > 10
    assert not result.failed


def test_the_estate_file_on_the_page_loads(skerry: Path) -> None:
    text = (ROOT / "docs/estate-file.md").read_text()
    (example,) = re.findall(r"```yaml\n(.*?)```", text, re.DOTALL)
    (skerry / "page.yaml").write_text(example)
    assert len(load(skerry / "page.yaml").grants) == 5


@pytest.mark.parametrize("page", sorted(p for p in ROOT.glob("*.md")) + sorted(ROOT.glob("docs/*.md")), ids=lambda p: p.name)
def test_links_lead_somewhere(page: Path) -> None:
    for target in re.findall(r"\]\(([^)#:]+)\)", page.read_text()):
        assert (page.parent / target).exists(), f"{page.name} links {target}"


def test_the_page_of_checks_is_made_from_the_checks() -> None:
    assert (ROOT / "docs/checks.md").read_text() == catalogue.markdown(), "nightlatch checks --format markdown >docs/checks.md"
