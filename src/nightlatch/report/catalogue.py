"""The page of all checks, made from the checks themselves (docs/checks.md)."""

from __future__ import annotations

HEAD = """\
# Checks

Made by `nightlatch checks --format markdown`; a waiver names a check by its id.

| check | severity | what it finds | where the rule comes from |
|---|---|---|---|
"""


def markdown() -> str:
    """The page, one row a check."""
    from nightlatch.audit.checks import CATALOGUE

    rows = [
        f"| `{each.id}` | {each.severity.value} | {_cell(each.reason)} | {_cell(each.source)} |"
        for each in sorted(CATALOGUE.values(), key=lambda check: check.id)
    ]
    return HEAD + "\n".join(rows) + "\n"


def _cell(text: str) -> str:
    return text.replace("|", "\\|")
