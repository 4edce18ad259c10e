"""What all tests share: judges are required in CI and skipped elsewhere with the reason; seeds are printed."""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable, Iterator

import pytest
from hypothesis import settings

settings.register_profile("nightlatch", deadline=None, print_blob=True, max_examples=150)
settings.load_profile("nightlatch")

SBIN = os.environ.get("PATH", "") + os.pathsep + "/usr/sbin:/sbin"


@pytest.fixture(autouse=True)
def _same_for_the_next() -> Iterator[None]:
    """A test that leaves another umask behind would fail others in the same process, far away from it."""
    before = os.umask(0o022)
    os.umask(before)
    yield
    after = os.umask(before)
    assert after == before, f"this test left the umask {after:04o}"


@pytest.fixture
def tell(record_property: Callable[[str, object], None]) -> Callable[[str], None]:
    """Tells a figure at the end of the run, whichever process found it."""
    return lambda text: record_property("told", text)


def pytest_terminal_summary(terminalreporter: pytest.TerminalReporter) -> None:
    """The figures that tests told."""
    reports = [report for kind in ("passed", "failed") for report in terminalreporter.stats.get(kind, [])]
    told = [text for report in reports for name, text in getattr(report, "user_properties", []) if name == "told"]
    for text in dict.fromkeys(told):
        terminalreporter.write_line(str(text))


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Skip judges whose program is not here, unless every judge is required: then they run, and fail."""
    required = bool(os.environ.get("NIGHTLATCH_REQUIRE_JUDGES"))
    for item in items:
        for mark in item.iter_markers("judge"):
            missing = [p for p in mark.args if not shutil.which(p, path=SBIN)]
            if "root" in mark.kwargs and os.geteuid() != 0:
                missing.append("root's rights")
            if "tree" in mark.kwargs and not mark.kwargs["tree"].exists():
                missing.append(f"{mark.kwargs['tree']} (make packages)")
            if missing and not required:
                item.add_marker(pytest.mark.skip(reason=f"needs {', '.join(missing)}"))
